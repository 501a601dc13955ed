"""'jiyuu identify': which circuit recordings were made by."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from jiyuu.cli.options import Channel, FullScale, Json, notice, print_json, say_notices, uncertain
from jiyuu.errors import MeasurementError

if TYPE_CHECKING:
    from jiyuu.character.family_fit import Whistle
    from jiyuu.character.identify import Candidate, Identified
    from jiyuu.measurement.notice import Notice
    from jiyuu.measurement.response import MeasuredResponse

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
    from jiyuu.character.identify import identify as identified
    from jiyuu.character.level_curves import LevelCurve
    from jiyuu.stopping import side_by_side
    from jiyuu.wording.notices import notices_json

    if not pair:
        raise MeasurementError("there is nothing to identify; give --pair STIMULUS.wav RECORDING.wav, once for each "
                               "level.")
    pairs = [(Path(pair[i]), Path(pair[i + 1])) for i in range(0, len(pair) - 1, 2)]
    read = list(side_by_side(lambda one: _measured(*one, channel=channel, full_scale_v=full_scale_v), pairs))
    notices = tuple({str(one): one for response, found in read for one in (*response.notices, *found)}.values())
    found = identified([LevelCurve.of(response) for response, _ in read],
                       None if whistle is None else _whistle(whistle, channel, full_scale_v))
    if json:
        print_json({
            "verdict": None if found.chosen is None else found.chosen.family.entry.id,
            "mode": None if found.chosen is None else found.chosen.family.mode,
            "sentence": _sentence(found),
            "candidates": [_candidate_json(one) for one in found.candidates],
            "to_tell": _to_tell_json(found),
            "warnings": notices_json(notices),
        })
        return
    say_notices(notices)
    typer.echo(_sentence(found))
    for one in found.candidates:
        typer.echo(f"{one.family.entry.id:20} {one.family.mode:16} {100 * one.odds:8.3f} %  cutoff "
                   f"{one.cutoff_hz.value:9.2f} Hz  loop gain {one.loop_gain.value:7.4f}  leaves "
                   f"{one.residual_db:.3f} dB")
    for told in _to_tell_json(found):
        typer.echo(told["sentence"])
    if len(pairs) == 1:
        notice("jiyuu: one level tells the response only; a second, louder sweep tells what bends.")


def _measured(
    stimulus: Path, recording: Path, *, channel: str | None, full_scale_v: float
) -> tuple[MeasuredResponse, tuple[Notice, ...]]:
    from jiyuu.measurement.response import measure_response
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import read_recording

    played, heard = (read_recording(path, full_scale_v=full_scale_v) for path in (stimulus, recording))
    if played.sample_rate_hz != heard.sample_rate_hz:
        raise MeasurementError(f"{stimulus} has {played.sample_rate_hz} Hz and {recording} {heard.sample_rate_hz} Hz; "
                               "record at the rate of the stimulus.")
    stimulus_v = played.loudest_v
    record_v, chosen = channel_of(heard, stimulus_v, channel)
    response = measure_response(stimulus_v, record_v, float(played.sample_rate_hz), quickly=True)
    return response, () if chosen is None else (chosen,)


def _whistle(path: Path, channel: str | None, full_scale_v: float) -> Whistle:
    from jiyuu.character.family_fit import Whistle
    from jiyuu.measurement.tone import measure_tone
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import read_recording

    read = read_recording(path, full_scale_v=full_scale_v)
    heard, _ = channel_of(read, None, channel)
    tone = measure_tone(heard, float(read.sample_rate_hz))
    return Whistle(tone.frequency_hz.value, tone.amplitude_peak_v, tone.thd_percent)


def _sentence(found: Identified) -> str:
    from jiyuu.wording.identity import none_sentence, undecided_sentence, verdict_sentence

    best = found.candidates[0]
    titles = [one.family.entry.title for one in found.candidates]
    if found.none_fits:
        return none_sentence(best.residual_db)
    if found.chosen is None:
        return undecided_sentence(titles[0], titles[1], best.odds)
    return verdict_sentence(titles[0], best.family.mode, best.odds, best.residual_db,
                            titles[1] if len(titles) > 1 else None)


def _candidate_json(one: Candidate) -> dict[str, Any]:
    def stated(value: float, uncertainty: float) -> dict[str, float | None] | None:
        return uncertain(value, uncertainty if uncertainty == uncertainty else None)  # NaN: not looked for

    return {
        "circuit": one.family.entry.id, "mode": one.family.mode,
        "alike": [{"circuit": circuit, "mode": mode} for circuit, mode in one.family.alike],
        "odds": one.odds, "cutoff_hz": stated(one.cutoff_hz.value, one.cutoff_hz.uncertainty),
        "loop_gain": stated(one.loop_gain.value, one.loop_gain.uncertainty), "level_db": one.level_db,
        "parameters": {name: stated(value.value, value.uncertainty) for name, value in one.parameters.items()},
        "residual_db": one.residual_db,
        "residuals": [{"frequency_hz": hertz.tolist(), "residual_db": [None if x != x else x for x in left.tolist()]}
                      for hertz, left in one.curves],
    }


def _to_tell_json(found: Identified) -> list[dict[str, Any]]:
    from jiyuu.wording.identity import to_tell_sentence

    return [{"first": one.first, "second": one.second, "measurement": "response", "level_v": one.level_v,
             "frequency_hz": one.hertz, "difference_db": one.difference_db,
             "sentence": to_tell_sentence(one.first, one.second, one.level_v, one.hertz, one.difference_db)}
            for one in found.to_tell]
