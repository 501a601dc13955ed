"""What commands print stays as it was recorded, number by number."""

import json

import pytest

from tests.cli.recorded import KEPT, PARTS, output


def numbers(value, place=""):
    """(place, number or word) of everything in a document."""
    if isinstance(value, dict):
        for name, inside in value.items():
            yield from numbers(inside, f"{place}.{name}")
    elif isinstance(value, list):
        for i, inside in enumerate(value):
            yield from numbers(inside, f"{place}[{i}]")
    else:
        yield place, value


LONG = ("measure response noise", "measure response tones")


@pytest.mark.parametrize("part", [pytest.param(part, marks=pytest.mark.long if part in LONG else ()) for part in PARTS])
def test_printed_numbers_stay_as_recorded(part):
    kept = dict(numbers(json.loads(KEPT.read_text(encoding="utf-8"))[part]))
    now = dict(numbers(output(part)))
    assert len(kept) > 10
    missing = [place for place in kept if place not in now]
    assert not missing
    moved = [f"{place}: {value} became {now[place]}" for place, value in kept.items()
             if not _same(place, value, now[place])]
    assert not moved


def _same(place, value, now):
    if not isinstance(value, float | int) or isinstance(value, bool) or now is None:
        return value == now
    # A stated uncertainty comes from draws, and a tone's noise from the last bits of its record.
    loose = 1e-4 if any(word in place for word in ("uncertainty", "noise", "_n_percent", "harmonics_db")) else 1e-9
    return now == pytest.approx(value, rel=loose, abs=1e-9)
