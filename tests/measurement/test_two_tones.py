"""Products of two tones behind a curve, recorded late, inverted, by another clock and through noise; the truth is the
double series of the curve over both phases."""

import numpy as np
import pytest

from jiyuu.errors import MeasurementError
from jiyuu.measurement.drive import measure_drive
from jiyuu.measurement.two_tones import products_of
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.two_tones import TwoTones
from tests.measurement.test_drive import RATE, recorded
from tests.trials import some

LEVELS_V = (0.01, 0.1, 1.0, 3.0)


def biased(v):
    return np.tanh(v + 0.1) - np.tanh(0.1)


def exact(curve, peak):
    phase = np.sin(2 * np.pi * np.arange(256) / 256)
    wave = curve(peak * (phase[:, np.newaxis] + phase[np.newaxis, :]))
    lines = np.abs(np.fft.fft2(wave)) / wave.size
    return (100 * lines[-1, 1] / (2 * lines[1, 0]), 100 * (lines[2, -1] + lines[-1, 2]) / (2 * lines[1, 0]))


@pytest.mark.long
def test_products_hold_what_they_state():
    held = []
    for seed in some(range(24), 10):
        draw = np.random.default_rng(seed)
        low = round(draw.uniform(300, 6000), 1)
        tones = TwoTones(low, round(low + draw.uniform(30, 190), 1), float(draw.uniform(0.05, 2)))
        steps = DriveSteps(110.0, LEVELS_V, 0.4, pair=tones)
        record = recorded(biased, steps, ppm=draw.uniform(-60, 60), seed=seed)
        found = measure_drive(record, RATE, steps).products
        for value, truth in zip((found.second_percent, found.third_percent), exact(biased, tones.level_v), strict=True):
            held.append(abs(value.value - truth) <= value.uncertainty)
            assert value.value == pytest.approx(truth, rel=0.01, abs=value.uncertainty)
    assert 0.88 <= np.mean(held) <= 1.0


def test_what_noise_alone_would_make_is_not_stated():
    steps = DriveSteps(110.0, LEVELS_V, 0.4, pair=TwoTones(900.0, 970.0, 0.5))
    found = measure_drive(recorded(lambda v: v, steps, noise_db=-60.0), RATE, steps).products
    for value in (found.second_percent, found.third_percent):
        assert value.value <= value.uncertainty < 0.02


def test_a_recorder_that_clipped_them_states_nothing():
    steps = DriveSteps(110.0, LEVELS_V, 0.4, pair=TwoTones(900.0, 970.0, 3.0))
    record = np.clip(recorded(lambda v: v, steps), -4.0, 4.0)
    found = measure_drive(record, RATE, steps, full_scale_v=4.0)
    assert found.products is None
    assert len(found.levels) == len(LEVELS_V)
    assert [notice.fault.value for notice in found.notices] == ["clipped"]


def test_other_tones_than_were_played_are_not_stated():
    t = np.arange(RATE) / RATE
    wave = TwoTones(900.0, 970.0, 0.5).wave_v(t)
    assert products_of(wave, RATE, TwoTones(900.0, 970.0, 0.5)).there
    for low, high in ((2000.0, 2100.0), (900.0, 1000.0)):
        assert not products_of(wave, RATE, TwoTones(low, high, 0.5)).there
    with pytest.raises(MeasurementError, match="higher rate"):
        products_of(wave, RATE, TwoTones(12_000.0, 17_500.0, 1.0))


def test_a_ladder_is_not_lost_with_its_two_tones():
    """Drowned, as in the depth of a notch: the levels stand, and why the products do not is said."""
    steps = DriveSteps(110.0, LEVELS_V, 0.4, pair=TwoTones(900.0, 970.0, 1e-5))
    found = measure_drive(recorded(np.tanh, steps), RATE, steps)
    assert len(found.levels) == len(LEVELS_V)
    assert found.products is None
    assert "do not stand out" in found.why_no_products


def test_a_recording_without_its_end_is_refused():
    steps = DriveSteps(110.0, LEVELS_V, 0.4, pair=TwoTones(900.0, 970.0, 0.5))
    record = recorded(np.tanh, steps)
    with pytest.raises(MeasurementError, match=r"ends before the two tones|shorter than the stimulus"):
        measure_drive(record[: round((steps.pair_begins_s + 1.0) * RATE)], RATE, steps)
