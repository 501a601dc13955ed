"""Trims: turns, ends, and what a turn is worth."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.circuits.trims import RANGES, Trim, Trims, turns_for
from jiyuu.errors import CircuitError


@given(st.sampled_from(list(Trim)), st.floats(-100, 100), st.floats(-100, 100))
def test_turning_ends_at_the_ends(trim, first, second):
    allowed, turned = RANGES[trim], Trims().turned(trim, first).turned(trim, second)
    assert allowed.least <= turned[trim] <= allowed.most
    assert all(turned[other] == 0 for other in Trim if other is not trim)


def test_turns_by_the_drawing():
    assert turns_for(Trim.SCALE, -0.5) == -2.0
    assert turns_for(Trim.HIGH_FREQUENCY, 6.0) == 3.0
    assert Trims(**Trims(scale=1.5, offset=-2.0).as_json()) == Trims(scale=1.5, offset=-2.0)


@pytest.mark.parametrize("where", [{"scale": 10.1}, {"offset": -11.0}, {"hf": -0.1}, {"resonance": float("nan")}])
def test_past_the_end_is_refused(where):
    with pytest.raises(CircuitError, match="past its end"):
        Trims(**where)
