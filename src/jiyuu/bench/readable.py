"""What of a filter's settings in a book this version can read: what it cannot stands as the filter's own file says."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import ValidationError

from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import setting_of, walk
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import JiyuuError


def readable(document: Filter, kept: Mapping[str, object]) -> tuple[dict[str, object], list[str]]:
    """(what can be read, a sentence for each that cannot)."""
    if _reads(document, kept):
        return dict(kept), []
    good: dict[str, object] = {}
    said = []
    for name, value in kept.items():
        if _reads(document, {**good, name: value}):
            good[name] = value
        else:
            said.append(f"{document.name}: what the book holds as '{name}' cannot be read by this version; it stands "
                        "as the filter's file says.")
    return good, said


def _reads(document: Filter, kept: Mapping[str, object]) -> bool:
    try:
        Standing.of(document, kept)
        for step in walk():
            setting_of(step, kept)
    except (JiyuuError, ValidationError):
        return False
    return True
