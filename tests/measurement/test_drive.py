"""A ladder of levels recorded late, inverted, by another clock and through noise, against quadrature."""

import numpy as np
import pytest
from scipy.optimize import brentq

from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement.drive import measure_drive
from jiyuu.measurement.notice import Fault
from jiyuu.signals.drive_steps import DriveSteps
from tests.trials import some

RATE = 48_000
STEPS = DriveSteps(110.0, tuple((10 ** (np.arange(-40, 31, 2) / 20)).tolist()))
TURN = 2 * np.pi * (np.arange(1 << 13) + 0.5) / (1 << 13)


def recorded(curve, steps=STEPS, *, noise_db=-80.0, ppm=60.0, late_s=0.023, seed=0, tail_s=1.0):
    """The curve's output at the very times the recorder takes its samples, upside down."""
    t = np.arange(round((steps.duration_s + tail_s) * RATE)) / RATE / (1 + 1e-6 * ppm) - late_s
    shape = np.zeros(t.size)
    for i, level in enumerate(steps.levels_v):
        begin = steps.silence_s + i * (steps.tone_s + steps.gap_s)
        here = slice(*np.searchsorted(t, [begin, begin + steps.tone_s]))
        inside = np.minimum(t[here] - begin, begin + steps.tone_s - t[here])
        shape[here] += level * np.sin(np.pi / 2 * np.clip(inside / 0.01, 0, 1)) ** 2
    played = shape * np.sin(2 * np.pi * steps.frequency_hz * t)
    if steps.pair is not None:
        inside = np.minimum(t - steps.pair_begins_s, steps.pair_begins_s + 1.8 - t)
        played += np.sin(np.pi / 2 * np.clip(inside / 0.01, 0, 1)) ** 2 * steps.pair.wave_v(t)
    out = -curve(played)
    return out + np.random.default_rng(seed).normal(0, np.abs(out).max() * 10 ** (noise_db / 20), t.size)


def exact(curve, level):
    wave = curve(level * np.sin(TURN))
    peaks = np.array([2 * abs(np.mean(wave * np.exp(-1j * n * TURN))) for n in range(1, 21)])
    return peaks, 100 * np.sqrt(np.sum(peaks[1:] ** 2)) / peaks[0], 100 * np.sqrt(np.sum(peaks[1::2] ** 2)) / peaks[0]


def biased(v):
    return np.tanh(v + 0.2) - np.tanh(0.2)


@pytest.mark.parametrize("curve", some([np.tanh, biased, np.arcsinh], 1, long=2))
def test_a_ladder_through_noise_and_another_clock(curve):
    found = measure_drive(recorded(curve), RATE, STEPS)
    assert found.frequency_hz == pytest.approx(110 / (1 + 60e-6), rel=1e-7)
    held = []
    for level in found.levels:
        peaks, whole, even = exact(curve, level.input_peak_v)
        for value, truth in ((level.fundamental_peak_v, peaks[0]), (level.thd_percent, whole),
                             (level.even_percent, even), (level.harmonics_db[2], 20 * np.log10(peaks[2] / peaks[0]))):
            held.append(abs(value.value - truth) <= value.uncertainty)
        if whole > 0.5:
            assert level.thd_percent.value == pytest.approx(whole, rel=0.01)
    assert 0.88 <= np.mean(held) <= 1.0
    begin = 20 * np.log10(exact(curve, 1e-4)[0][0] / 1e-4)
    limits = (
        (found.compression_1db_v, lambda v: 20 * np.log10(exact(curve, v)[0][0] / v) - begin + 1),
        (found.thd_1_percent_v, lambda v: exact(curve, v)[1] - 1),
        (found.lamp_v, lambda v: exact(curve, v)[1] - 3),
    )
    for value, away in limits:
        truth = brentq(away, 0.01, 5)
        assert value.value == pytest.approx(truth, rel=5e-3)
        assert abs(value.value - truth) <= value.uncertainty


@pytest.mark.long
def test_a_recorder_that_wrote_nothing_before_and_behind_moves_nothing():
    """As one does that opens its input late, or a file whose ends were wiped."""
    plain = recorded(np.tanh)
    found, ringed = (measure_drive(one, RATE, STEPS) for one in (plain, np.pad(plain, (RATE, 2 * RATE))))
    assert [level.gain_db.value for level in ringed.levels] == pytest.approx(
        [level.gain_db.value for level in found.levels], abs=1e-3)


def test_noise_counts_in_thd_n_and_not_in_thd():
    steps = DriveSteps(440.0, (0.1, 0.2, 0.4))
    found = measure_drive(recorded(lambda v: v, steps, noise_db=-50.0), RATE, steps)
    noise = 0.4 * 10 ** (-50 / 20) * np.sqrt(20_000 / 24_000)
    for level in found.levels:
        assert level.thd_n_percent.value == pytest.approx(100 * noise / (level.input_peak_v / np.sqrt(2)), rel=0.05)
        assert level.thd_percent.value <= level.thd_percent.uncertainty
    assert found.compression_1db_v is None


def test_hum_is_taken_out_and_named():
    steps = DriveSteps(330.0, (0.05, 0.1, 0.2, 0.4, 0.8, 1.6))
    record = recorded(np.tanh, steps)
    found = measure_drive(record + 3e-3 * np.sin(2 * np.pi * 50 * np.arange(record.size) / RATE), RATE, steps)
    assert [notice.fault for notice in found.notices] == [Fault.HUM]
    assert found.levels[-1].thd_percent.value == pytest.approx(exact(np.tanh, 1.6)[1], rel=0.01)


@pytest.mark.long
def test_levels_at_which_the_recorder_clipped_are_left_out_and_it_is_said():
    """The unit itself bends softly; nothing but the recorder's full scale tells its clipping from that."""
    record = np.clip(recorded(np.arcsinh, noise_db=-90), -2.0, 2.0)
    found = measure_drive(record, RATE, STEPS, full_scale_v=2.0)
    assert [notice.fault for notice in found.notices] == [Fault.CLIPPED]
    assert found.levels[-1].input_peak_v < np.sinh(2.0)
    for level in found.levels[-6:]:
        assert level.thd_percent.value == pytest.approx(exact(np.arcsinh, level.input_peak_v)[1], rel=0.01)
    assert not measure_drive(record, RATE, STEPS, full_scale_v=10.0).notices


@pytest.mark.parametrize(("steps", "said"), [
    (DriveSteps(110.0, STEPS.levels_v[::2]), "other levels"),
    (DriveSteps(110.0, (*STEPS.levels_v, 40.0)), "other levels"),
    (DriveSteps(125.0, STEPS.levels_v), "Hz was stated|stands out"),
])
def test_another_ladder_than_was_played_is_refused(steps, said):
    with pytest.raises(MeasurementError, match=said):
        measure_drive(recorded(np.tanh, tail_s=3.0), RATE, steps)


def test_no_tones_or_half_of_them():
    record = recorded(np.tanh)
    with pytest.raises(MeasurementError, match=r"stands out|does not hold"):
        measure_drive(np.random.default_rng(1).normal(0, 0.1, record.size), RATE, STEPS)
    with pytest.raises(MeasurementError, match="shorter than the stimulus"):
        measure_drive(record[: record.size // 2], RATE, STEPS)


@pytest.mark.parametrize("make", [
    lambda: DriveSteps(5.0, (1.0,)), lambda: DriveSteps(100.0, ()), lambda: DriveSteps(100.0, (2.0, 1.0)),
    lambda: DriveSteps(100.0, (1.0, 2000.0)),
])
def test_what_cannot_be_played_is_refused(make):
    with pytest.raises(SignalError, match=r"give"):
        make()


def test_harmonics_past_the_twentieth_are_no_noise():
    """Hard clipping has them all; at 480 samples a period every one that folds stands on a harmonic again."""
    steps = DriveSteps(100.0, (0.5, 1.0, 2.0, 5.0))

    def clipped(v):
        return np.clip(v, -0.3, 0.3)

    found = measure_drive(recorded(clipped, steps, noise_db=-90.0, ppm=0.0, late_s=0.02), RATE, steps)
    for level in found.levels:
        period = clipped(level.input_peak_v * np.sin(2 * np.pi * np.arange(480) / 480))
        lines = np.abs(np.fft.rfft(period))[1:21]
        truth = 100 * np.sqrt(np.sum(lines[1:] ** 2)) / lines[0]
        assert abs(level.thd_percent.value - truth) <= level.thd_percent.uncertainty < 1e-4 * truth
        last = level.harmonics_db[18]
        assert abs(last.value - 20 * np.log10(lines[18] / lines[0])) <= last.uncertainty < 0.03
        assert level.thd_n_percent.value > level.thd_percent.value  # there they count
