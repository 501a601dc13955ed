"""A ladder of levels read back from its own record, at any rate and word length."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.errors import SignalError
from jiyuu.signals.drive_steps import DriveSteps, steps_in
from jiyuu.signals.two_tones import TwoTones


def in_a_file(steps, rate, bits):
    record = np.pad(steps.record_v(rate), (round(0.05 * rate), 0))
    return record if not bits else np.round(record / 10 * 2 ** (bits - 1)) * 10 / 2 ** (bits - 1)


@pytest.mark.parametrize(("rate", "hertz", "bits"), [(44_100, 40.0, 24), (48_000, 123.4, 16), (96_000, 3000.0, None)])
def test_what_is_played_is_read_from_the_record(rate, hertz, bits):
    steps = DriveSteps(hertz, tuple((10 ** (np.arange(-30, 11, 4) / 20)).tolist()), shortest_s=0.5, silence_s=0.3)
    assert steps_in(in_a_file(steps, rate, bits), rate).pair is None
    pair = TwoTones(713.3, 783.25, 2.5)
    found = steps_in(in_a_file(replace(steps, pair=pair), rate, bits), rate)
    assert (found.pair.low_hz, found.pair.high_hz) == pytest.approx((713.3, 783.25), abs=2e-3)
    assert found.pair.level_v == pytest.approx(2.5, rel=2e-4)
    assert found.pair_begins_s == pytest.approx(replace(steps, pair=pair).pair_begins_s, abs=0.08)
    assert found.frequency_hz == pytest.approx(hertz, rel=1e-5)
    assert found.levels_v == pytest.approx(steps.levels_v, rel=2e-3 if bits == 16 else 1e-5)
    assert (found.tone_s, found.gap_s) == pytest.approx((steps.tone_s, steps.gap_s), abs=0.02)


@pytest.mark.parametrize("record", [
    np.zeros(48_000), np.sin(np.arange(48_000) / 7), np.random.default_rng(1).normal(0, 1, 48_000),
    np.repeat([0.0, 1.0, 0.0, 1.0, 0.0], 24_000),
    np.tile(np.append(np.sin(np.arange(9000) / 7) ** 3, np.zeros(9000)), 4),
])
def test_another_stimulus_is_refused(record):
    with pytest.raises(SignalError, match="no ladder of levels"):
        steps_in(record, 48_000.0)


def test_three_tones_behind_the_levels_are_refused():
    steps = DriveSteps(100.0, (0.1, 0.2, 0.4), pair=TwoTones(700.0, 770.0, 0.5))
    record = steps.record_v(48_000)
    behind = np.arange(record.size) > steps.pair_begins_s * 48_000
    third = 0.3 * np.sin(2 * np.pi * 1000 * np.arange(record.size) / 48_000) * behind * (np.abs(record) > 0)
    with pytest.raises(SignalError, match="not two tones of one level"):
        steps_in(record + third, 48_000.0)


@pytest.mark.parametrize(("low", "high", "level", "said"), [
    (10.0, 500.0, 1.0, "told apart"), (900.0, 905.0, 1.0, "told apart"), (900.0, 19_000.0, 1.0, "told apart"),
    (500.0, 1000.0, 1.0, "falls onto"), (300.0, 900.0, 1.0, "falls onto"), (900.0, 970.0, 0.0, "level"),
])
def test_two_tones_that_cannot_be_read_are_refused(low, high, level, said):
    with pytest.raises(SignalError, match=said):
        TwoTones(low, high, level)


def test_a_rate_holds_the_products():
    steps = DriveSteps(100.0, (0.1, 0.2), pair=TwoTones(12_000.0, 17_000.0, 0.5))
    with pytest.raises(SignalError, match="higher rate"):
        steps.record_v(44_100)
    assert steps.record_v(96_000).size == round(steps.duration_s * 96_000)
