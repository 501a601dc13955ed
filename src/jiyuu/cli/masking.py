"""'jiyuu masking': which band of one sound hides another, and the cut that frees it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from jiyuu.cli.options import Json, notice, print_json
from jiyuu.cli.waiting import in_view
from jiyuu.errors import SignalError

if TYPE_CHECKING:
    from jiyuu.character.masking import Cut, Masking


def masking(
    wanted: Annotated[Path, typer.Argument(metavar="WANTED.wav", help="The sound that is to be heard.")],
    other: Annotated[Path, typer.Argument(metavar="OTHER.wav", help="What it is mixed with, as loud as in the mix.")],
    out: Annotated[Path | None, typer.Option("--out", metavar="CUT.patch.json", help="The cut as a patch, to render "
                                             "OTHER with.")] = None,
    json: Json = False,
) -> None:
    """Masking: how much of a sound another hides, in which of the ear's bands (specific loudness, ISO 532-1), and the
    cut in the other one that frees most of it. Both begin at once; a file of several channels is taken by its
    loudest."""
    from jiyuu.character.masking import masking as measured
    from jiyuu.signals.recordings import read_to_measure
    from jiyuu.whole_file import apart_from
    from jiyuu.wording.combination import QUANTITIES

    if out is not None:
        apart_from(out, (wanted, other))
    sounds = [read_to_measure(path) for path in (wanted, other)]
    rates = [sound.sample_rate_hz for sound in sounds]
    if rates[0] != rates[1]:
        raise SignalError(f"{wanted.name} runs at {rates[0]:.0f} Hz and {other.name} at {rates[1]:.0f} Hz; bring both "
                          "to one rate.")
    with in_view("Listening"):
        found = measured(sounds[0].loudest_v, sounds[1].loudest_v, rates[0])
    cut = found.cut
    said = QUANTITIES["hidden_percent"].says(found.finding(wanted.name, other.name))
    if out is not None:
        if cut is None:
            raise SignalError(f"{said[:-1]}, so there is no patch to write; leave --out away.")
        _write(out, cut)
    if json:
        print_json(_as_json(found, said))
        return
    typer.echo(said)
    if out is not None:
        notice(f"{out}: render {other.name} with it, and hear both.")


def _as_json(found: Masking, sentence: str) -> dict[str, object]:
    from jiyuu.character.masking import BAND_HZ

    cut = found.cut
    return {
        "alone_sone": found.alone_sone, "audible_sone": found.audible_sone,
        "hidden_percent": 100 * found.hidden_share,
        "bands": [{"frequency_hz": float(hertz), "alone_sone": float(alone), "audible_sone": float(audible),
                   "gained_sone": float(gained)}
                  for hertz, alone, audible, gained in zip(BAND_HZ, found.alone, found.audible, found.gained_sone,
                                                          strict=True)],
        "cut": None if cut is None else {"frequency_hz": cut.frequency_hz, "gain_db": cut.gain_db, "q": cut.q,
                                         "gained_sone": cut.gained_sone},
        "sentence": sentence,
    }


def _write(out: Path, cut: Cut) -> None:
    from jiyuu.patch.document import Patch
    from jiyuu.patch.reading import write_patch
    from jiyuu.patch.shapes import Band, Shapes

    band = Band(kind="peak", frequency_hz=cut.frequency_hz, gain_db=cut.gain_db, q=cut.q)
    write_patch(out, Patch(format="jiyuu-patch", version=1, name="cut", path=(Shapes(stage="shapes", bands=(band,)),)))
