"""'jiyuu design': which filter fits a wish."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import Json, print_json
from jiyuu.cli.waiting import in_view


def design(
    wish: Annotated[Path, typer.Argument(metavar="WISH.json", help="Wishes (quantity, target, tolerance, weight) and "
                                         "parts (series, capacitor_percent).")],
    json: Json = False,
) -> None:
    """Which filter fits a wish: circuits that meet it, of preferred parts, with the yield of their builds."""
    from jiyuu.bench.designing import designed_sentence, proposal_json, proposed
    from jiyuu.character.design import design as designed
    from jiyuu.character.wish import read_wishes

    wishes = read_wishes(wish)
    with in_view("Designing"):
        found = designed(wishes)
    if json:
        print_json({"sentence": designed_sentence(found), "proposals": [proposal_json(one) for one in found.proposals]})
        return
    typer.echo(designed_sentence(found))
    for one in found.proposals:
        typer.echo(proposed(one))
