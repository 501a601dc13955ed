"""What is asked of the Self-oscillation and Tracking steps, as a book keeps it."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.self_oscillation import Target, WhistleSetting, ratio_of
from jiyuu.bench.steps.tracking import STEP, TrackingSetting
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.errors import CircuitError
from jiyuu.rig.tracking_request import START_HZ, SWEPT_FROM_HZ

LADDER = neutral_filter("transistor-ladder")
NEVER = LADDER.model_copy(update={"full_gain": 2.0})  # its onset lies at 4


@given(st.floats(-5, 5), st.floats(0.1, 5), st.sampled_from([0.25, 0.5, 1.0]))
def test_volts_go_from_end_to_end_in_whole_steps(start, span, step):
    volts = TrackingSetting(from_v=start, to_v=start + span, step_v=step).volts()
    assert volts[0] == pytest.approx(start, abs=1e-8)
    assert start + span - step < volts[-1] + 1e-5 <= start + span + 2e-5
    assert all(b - a == pytest.approx(step, abs=1e-8) for a, b in pairwise(volts))


def asked(setting, document):
    return STEP.request(Standing.of(document), setting)


def test_a_filter_that_whistles_is_counted_and_one_that_does_not_is_swept():
    setting = TrackingSetting()
    counted, swept = (asked(setting, d) for d in (LADDER, NEVER))
    assert (counted.by_sweeps, counted.start_hz, counted.volts[-1]) == (False, START_HZ, 8.0)
    assert counted.resonance_percent > 90
    assert (swept.by_sweeps, swept.start_hz, swept.volts[-1], swept.resonance_percent) == (True, SWEPT_FROM_HZ, 6.0, 0)
    forced = asked(setting.changed(by_sweeps=True, resonance_percent=30.0), LADDER)
    assert (forced.by_sweeps, forced.resonance_percent, forced.hold_s) == (True, 30.0, 0.0)


def test_the_offset_is_aimed_at_the_reference_step():
    setting = TrackingSetting(start_hz=55.0, reference_v=2.0, tune_offset=True)
    assert asked(setting, LADDER).target_hz == pytest.approx(220.0)
    assert asked(setting.changed(tune_offset=False), LADDER).target_hz is None
    # A reference that is no step of the range is let go, not measured against nothing.
    assert asked(setting.changed(reference_v=2.5), LADDER).reference_v is None


@pytest.mark.parametrize(("changes", "words"), [
    ({"to_v": -1.0}, "must lie above"), ({"step_v": 0.01}, "make more than 200"),
    ({"tolerance_cents": 0.0}, r"Tolerance of 0 cents is out of range; type 0 to 1200 cents"),
    ({"temperature_c": 400.0}, r"Temperature of 400 °C is out of range; type −20 to 80 °C"),
    ({"colour": "red"}, "not permitted"), ({"from_v": float("nan")}, "From of nan V is out of range"),
])
def test_what_cannot_be_tracked_is_refused(changes, words):
    with pytest.raises(CircuitError, match=words):
        TrackingSetting().changed(**changes)


@pytest.mark.parametrize(("text", "ratio"), [("fifth", 1.5), ("7:4", 1.75), ("1.5", 1.5), ("3 : 2", 1.5), ("1:2", 0.5)])
def test_intervals_by_name_and_by_ratio(text, ratio):
    assert float(ratio_of(text)) == ratio
    setting = WhistleSetting(target=Target.INTERVAL, oscillator_hz=100.0, ratio=text)
    assert setting.target_hz(440.0) == pytest.approx(100 * ratio)


@pytest.mark.parametrize("text", ["", "a lot", "1:0", "0", "-2", "1000:1"])
def test_what_is_no_interval(text):
    with pytest.raises(ValueError, match="is no interval"):
        ratio_of(text)


@given(st.floats(20, 10_000), st.floats(400, 480))
def test_the_nearest_note_is_never_farther_than_half_a_semitone(tone_hz, concert_a_hz):
    target = WhistleSetting(concert_a_hz=concert_a_hz).target_hz(tone_hz)
    assert 2 ** (-0.5 / 12) * 0.999999 <= target / tone_hz <= 2 ** (0.5 / 12) * 1.000001
