"""The reach of the cutoff on set-ups worked out by hand. C4 = 261.626 Hz is 0 V; 20 kHz is +6.256 V, 20 Hz −3.709 V."""

import numpy as np
import pytest

from jiyuu.circuits.reach import ControlSpan, reach
from jiyuu.errors import CircuitError
from jiyuu.quantities import C4_HZ
from jiyuu.wording.reach import dead_line, reach_line

TOP = np.log2(20_000 / C4_HZ)
BOTTOM = np.log2(20 / C4_HZ)


def knob(now=0.0, low=-4.0, high=6.0):
    return ControlSpan("Knob", low, high, now)


CASES = [
    # controls, expected {(control, end): (share, because)}
    ([knob(high=6.0, low=-3.0)], {}),
    ([knob(high=8.0, low=-2.0)], {("Knob", "upper"): ((8 - TOP) / 10, None)}),
    ([knob(low=-6.0, high=4.0)], {("Knob", "lower"): ((BOTTOM + 6) / 10, None)}),
    ([knob(low=-2.0, high=6.0), ControlSpan("CV 1", 0, 4, 4, True)],
     {("Knob", "upper"): ((4 + 6 - TOP) / 8, "CV 1")}),
    ([knob(now=6.0, low=-2.0), ControlSpan("CV 1", 0, 5, 0, True)], {("CV 1", "upper"): ((6 + 5 - TOP) / 5, None)}),
    ([knob(now=6.0, low=-2.0), ControlSpan("CV 1", 0, 5, 5, True)],
     {("Knob", "upper"): ((5 + 6 - TOP) / 8, "CV 1"), ("CV 1", "upper"): ((6 + 5 - TOP) / 5, None)}),
    ([knob(now=-3.0, low=-3.5), ControlSpan("CV 1", 0, -5, -5, True)],
     {("Knob", "lower"): ((BOTTOM + 5 + 3.5) / 9.5, "CV 1"), ("CV 1", "upper"): ((BOTTOM + 3 + 5) / 5, None)}),
    ([knob(now=0.0, low=-3.0), ControlSpan("CV 1", 0, 3, 0, True), ControlSpan("CV 2", -1, 1, 0, True)], {}),
    ([knob(low=-3.0, high=5.0), ControlSpan("CV 1", 0, 8, 8, True), ControlSpan("CV 2", -2, 2, 0, True)],
     {("Knob", "upper"): ((8 + 5 - TOP) / 8, "CV 1"), ("CV 1", "upper"): ((8 - TOP) / 8, None),
      ("CV 2", "upper"): (1.0 * (8 + 2 - TOP) / 4, "CV 1")}),
    ([knob(now=0.0, low=-3.0, high=5.0), ControlSpan("CV 1", 0, 9, 9, True), ControlSpan("CV 2", 0, 1, 0, True)],
     {("Knob", "upper"): ((9 + 5 - TOP) / 8, "CV 1"), ("CV 1", "upper"): ((9 - TOP) / 9, None),
      ("CV 2", "upper"): (1.0, "CV 1")}),
    ([knob(now=7.0, low=-3.0, high=7.0), ControlSpan("Key", -2, 3, -2, True)],
     {("Key", "upper"): ((7 + 3 - TOP) / 5, None), ("Knob", "lower"): ((BOTTOM + 2 + 3) / 10, "Key")}),
    ([knob(now=7.0, low=-3.0, high=7.0), ControlSpan("Fine", 0, 0, 0)], {("Knob", "upper"): ((7 - TOP) / 10, None)}),
    ([knob(now=8.0, low=-3.0, high=8.0), ControlSpan("Fine", -0.5, 0.5, 0)],
     {("Knob", "upper"): ((8 - TOP) / 11, None), ("Fine", "upper"): (1.0, "Knob")}),
]


@pytest.mark.parametrize(("controls", "expected"), CASES)
def test_dead_travel_worked_out_by_hand(controls, expected):
    found = {(part.control, part.end): (part.share, part.because) for part in reach(controls).dead}
    assert set(found) == set(expected)
    for place, (share, because) in expected.items():
        assert found[place][0] == pytest.approx(share, abs=1e-9)
        assert found[place][1] == because


def test_the_whole_reach_is_the_sum_within_the_circuits_limits():
    found = reach([knob(low=-2.0, high=6.0), ControlSpan("CV 1", -3, 3, 0, True)], lowest_hz=16, highest_hz=18_000)
    assert found.now_hz == pytest.approx(C4_HZ)
    assert found.low_hz == pytest.approx(16)
    assert found.high_hz == pytest.approx(18_000)
    assert found.wanted_low_hz == pytest.approx(C4_HZ / 32)
    assert found.wanted_high_hz == pytest.approx(C4_HZ * 512)
    assert "16.00 Hz to 18.00 kHz" in reach_line(found)
    assert "octaves more than the circuit can reach" in reach_line(found)


def test_a_circuit_that_stops_before_the_ear_is_named():
    part, = reach([knob(low=-2.0, high=6.0)], highest_hz=8000).dead
    assert part.why == "circuit"
    assert part.share == pytest.approx((6 - np.log2(8000 / C4_HZ)) / 8)
    assert "circuit's limit of 8.000 kHz" in dead_line(part)


def test_sentences_name_the_control_that_holds_the_filter_open():
    part, *_ = reach([knob(low=-2.0, high=6.0), ControlSpan("CV 1", 0, 4, 4, True)]).dead
    text = dead_line(part)
    assert text.startswith("Knob: the upper 47 % of its travel cannot be heard: CV 1 (+4.0 octaves) already opens")


def test_a_negative_amount_reaches_the_bottom_at_the_upper_end():
    part, = reach([knob(now=-3.0, low=-3.5), ControlSpan("CV 1", 0, -2, 0, True)]).dead
    assert (part.control, part.end) == ("CV 1", "upper")


@pytest.mark.parametrize(("controls", "limits", "message"), [
    ([], (20, 20_000), "at least its knob"), ([knob()], (200, 20), "wrong way round"),
])
def test_set_ups_that_cannot_be(controls, limits, message):
    with pytest.raises(CircuitError, match=message):
        reach(controls, lowest_hz=limits[0], highest_hz=limits[1])
    with pytest.raises(CircuitError, match="finite"):
        ControlSpan("CV 1", 0, float("nan"), 0)
