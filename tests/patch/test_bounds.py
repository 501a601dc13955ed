"""Bounds worked out by hand: a sum of octaves or of plain amounts, and the two ends it is to meet."""

import json

import numpy as np
import pytest

from jiyuu.errors import CircuitError
from jiyuu.patch.bounds import bounded, reached, with_amounts
from jiyuu.patch.reading import parse_patch

UNTIL_S = 4.0


def made(routes, controls, *, cutoff=440.0, **stage):
    own = {"stage": "filter", "id": "first", "filter": "transistor-ladder", "cutoff_hz": cutoff, **stage}
    return parse_patch(json.dumps({
        "format": "jiyuu-patch", "version": 1, "name": "Bounds", "path": [own, {"stage": "gain", "id": "trim"}],
        "controls": controls, "routes": routes}), source="made up")


def both(value):
    return {"kind": "steps", "values": [0.0, value], "rate_hz": 2.0}


# (routes onto the cutoff as (amount, least, greatest of its control), low, high) -> knob in Hz, amounts
SUMS = [([(amount, *ends)], low, high) for amount in (1.0, -2.5, 0.3) for ends in ((0.0, 1.0), (-1.0, 1.0), (0.0, 0.5))
        for low, high in ((110.0, 880.0), (50.0, 3200.0), (440.0, 441.0), (16.0, 22_000.0))]


@pytest.mark.parametrize(("routes", "low", "high"), SUMS)
def test_one_route_meets_both_bounds(routes, low, high):
    (amount, least, greatest), = routes
    control = {"kind": "steps", "values": [least, greatest], "rate_hz": 2.0}
    patch = made([{"from": "c", "to": "first.cutoff", "amount": amount}], {"c": control})
    found = bounded(patch, "first.cutoff", low, high, UNTIL_S)
    octaves = np.log2(high / low)
    # amount·(greatest − least) is the whole way; the knob is where the control is 0.
    expected = octaves / (greatest - least) * np.sign(amount)
    knob = low / 2 ** (expected * (least if amount > 0 else greatest))
    assert found.amounts == (pytest.approx(expected, rel=1e-12),)
    assert found.stands_at == pytest.approx(knob, rel=1e-12)
    met = with_amounts(made([{"from": "c", "to": "first.cutoff", "amount": 1.0}], {"c": control},
                            cutoff=min(max(found.stands_at, 16.0), 22_000.0)), "first.cutoff", found.amounts)
    if 16.0 <= found.stands_at <= 22_000.0:
        ends = reached(met, "first.cutoff", UNTIL_S)
        assert 1200 * np.abs(np.log2(np.array(ends) / [low, high])).max() < 0.1


def test_two_routes_keep_their_proportion():
    """Up to 2 and down to −1 at different times: 3 octaves in all, to become 6."""
    controls = {"up": {"kind": "steps", "values": [0, 1, 0, 0], "rate_hz": 4.0},
                "down": {"kind": "steps", "values": [0, 0, 1, 0], "rate_hz": 4.0}}
    patch = made([{"from": "up", "to": "first.cutoff", "amount": 2.0},
                  {"from": "down", "to": "first.cutoff", "amount": -1.0}], controls)
    found = bounded(patch, "first.cutoff", 100.0, 6400.0, UNTIL_S)
    assert found.amounts == (pytest.approx(4.0), pytest.approx(-2.0))
    assert found.stands_at == pytest.approx(400.0)


def test_plain_targets_add():
    patch = made([{"from": "c", "to": "first.resonance", "amount": 10.0}], {"c": both(1.0)}, resonance_percent=20.0)
    found = bounded(patch, "first.resonance", 30.0, 90.0, UNTIL_S)
    assert (found.stands_at, found.amounts) == (pytest.approx(30.0), (pytest.approx(60.0),))


def test_what_cannot_be_is_said():
    patch = made([{"from": "c", "to": "first.cutoff", "amount": 1.0}], {"c": both(1.0)})
    with pytest.raises(CircuitError, match="lies under the lower one"):
        bounded(patch, "first.cutoff", 500.0, 400.0, UNTIL_S)
    with pytest.raises(CircuitError, match="beyond where it can go"):
        bounded(patch, "first.cutoff", 1.0, 400.0, UNTIL_S)
    with pytest.raises(CircuitError, match="no route moves it"):
        bounded(patch, "trim.level", 0.1, 1.0, UNTIL_S)
    still = made([{"from": "c", "to": "first.cutoff", "amount": 0.0}], {"c": both(1.0)})
    with pytest.raises(CircuitError, match="do not move it"):
        bounded(still, "first.cutoff", 100.0, 200.0, UNTIL_S)
