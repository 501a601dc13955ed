"""'jiyuu identify': which circuit recordings were made by."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from jiyuu.cli.options import Channel, FullScale, Json, notice, print_json, say_notices
from jiyuu.cli.waiting import in_view
from jiyuu.errors import MeasurementError

if TYPE_CHECKING:
    from jiyuu.rig.identity_run import Swept

# Two words each time, which an annotation cannot say; the entry hands them on one by one.
Pair = Annotated[list[str] | None, typer.Option(
    "--pair", metavar="STIMULUS.wav RECORDING.wav", help="Once for each level: a sweep and what came of it.")]


def identify(
    pair: Pair = None,
    whistle: Annotated[Path | None, typer.Option("--whistle", metavar="R.wav", help="Its self-oscillation, recorded at "
                                                 "the same cutoff.")] = None,
    channel: Channel = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Which circuit is it: from sweeps at two or more levels, soft and loud, and its whistle where it has one."""
    from jiyuu.bench.identity import identity_json, notices_of, read_whistle, told_by
    from jiyuu.rig.identity_run import IdentityRun
    from jiyuu.stopping import side_by_side
    from jiyuu.wording.notices import notices_json

    if not pair:
        raise MeasurementError("there is nothing to identify; give --pair STIMULUS.wav RECORDING.wav, once for each "
                               "level.")
    pairs = [(Path(pair[i]), Path(pair[i + 1])) for i in range(0, len(pair) - 1, 2)]
    swept = tuple(side_by_side(lambda one: _swept(*one, channel=channel, full_scale_v=full_scale_v), pairs))
    whistled = None if whistle is None else read_whistle(whistle, channel=channel, full_scale_v=full_scale_v)
    with in_view("Identifying"):
        found = told_by(IdentityRun(swept, whistled))
    notices, said = notices_of(swept), identity_json(found)
    if json:
        print_json({**said, "warnings": notices_json(notices)})
        return
    say_notices(notices)
    typer.echo(said["sentence"])
    for one in found.candidates:
        typer.echo(f"{one.family.entry.id:20} {one.family.mode:16} {100 * one.odds:8.3f} %  cutoff "
                   f"{one.cutoff_hz.value:9.2f} Hz  loop gain {one.loop_gain.value:7.4f}  leaves "
                   f"{one.residual_db:.3f} dB")
    for told in said["to_tell"]:
        typer.echo(told["sentence"])
    if len(pairs) == 1:
        notice("jiyuu: one level tells the response only; a second, louder sweep tells what bends.")


def _swept(stimulus: Path, recording: Path, *, channel: str | None, full_scale_v: float) -> Swept:
    from jiyuu.rig.files import read_pair
    from jiyuu.rig.identity_run import swept_of

    pair = read_pair(stimulus, recording, full_scale_v=full_scale_v, channel=channel)
    if pair.told:
        notice(f"jiyuu: {pair.told}")
    return swept_of(pair.stimulus_v, pair.recording_v, pair.sample_rate_hz,
                    *(() if pair.chosen is None else (pair.chosen,)))
