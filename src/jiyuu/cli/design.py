"""'jiyuu design': which filter fits a wish."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from jiyuu.cli.options import Json, print_json

if TYPE_CHECKING:
    from jiyuu.character.design import Designed, Proposal


def design(
    wish: Annotated[Path, typer.Argument(metavar="WISH.json", help="Wishes (quantity, target, tolerance, weight) and "
                                         "parts (series, capacitor_percent).")],
    json: Json = False,
) -> None:
    """Which filter fits a wish: circuits that meet it, of preferred parts, with the yield of their builds."""
    from jiyuu.character.design import design as designed
    from jiyuu.character.wish import read_wishes

    found = designed(read_wishes(wish))
    if json:
        print_json({"sentence": _sentence(found), "proposals": [_proposal_json(one) for one in found.proposals]})
        return
    typer.echo(_sentence(found))
    for one in found.proposals:
        typer.echo(_says(one))


def _sentence(found: Designed) -> str:
    from jiyuu.circuits.catalogue import circuit
    from jiyuu.wording.design import fight_sentence

    if found.fight is not None:
        fight = found.fight
        return fight_sentence(fight.first, fight.second, fight.off, circuit(fight.circuit).title, fight.mode)
    return _says(found.proposals[0])


def _says(one: Proposal) -> str:
    from jiyuu.wording.design import costs_sentence, proposal_sentence

    entry, built = one.subject.filter.entry, one.built
    percent = 100 * one.subject.gain / (entry.onset_gain or entry.full_gain)
    return (proposal_sentence(entry.title, one.subject.mode, one.subject.cutoff_hz, percent, built.value, built.low,
                              built.high) + " " + costs_sentence(built.costs_most, built.if_exact, built.at_half))


def _proposal_json(one: Proposal) -> dict[str, Any]:
    subject, built = one.subject, one.built
    return {
        "circuit": subject.filter.circuit, "mode": subject.mode, "cutoff_hz": subject.cutoff_hz,
        "resonance_gain": subject.gain, "parameters": dict(subject.filter.parameters),
        "components": one.components.model_dump(mode="json"), "predicted": one.predicted,
        "worst_tolerances": one.worst,
        "yield": {"value": built.value, "low": built.low, "high": built.high, "builds": built.builds},
        "costs_most": None if built.costs_most is None else {
            "part": built.costs_most, "yield_if_exact": built.if_exact, "yield_at_half": built.at_half},
        "sentence": _says(one), "filter": subject.filter.model_dump(mode="json", exclude_defaults=True) | {
            "format": "jiyuu-filter", "version": 1},
    }
