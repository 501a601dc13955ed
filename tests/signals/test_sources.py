"""Sources and the sweep: levels, spectra, repeatability, what is refused."""

import numpy as np
import pytest

from jiyuu.errors import SignalError
from jiyuu.signals.sources import noise, pulse, saw, sine
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus

RATE = 48_000
ONE = {"level_v": 5.0, "duration_s": 1.0, "sample_rate_hz": RATE}


def harmonics(record, hz, count):
    spectrum = np.fft.rfft(record) * 2 / record.size
    return np.abs(spectrum[np.arange(1, count + 1) * hz])


def test_a_saw_has_every_harmonic_at_one_over_its_number_and_nothing_folds_back():
    record = saw(1000, **ONE)
    assert harmonics(record, 1000, 20) == pytest.approx(5.0 * 2 / np.pi / np.arange(1, 21), rel=1e-9)
    spectrum = np.abs(np.fft.rfft(record)) * 2 / record.size
    spectrum[::1000] = 0
    assert spectrum.max() < 1e-10


def test_a_square_has_odd_harmonics_and_no_offset():
    record = pulse(500, **ONE)
    found = harmonics(record, 500, 9)
    assert found[::2] == pytest.approx(5.0 * 4 / np.pi / np.arange(1, 10, 2), rel=1e-9)
    assert found[1::2].max() < 1e-10
    assert abs(record.mean()) < 1e-12


@pytest.mark.parametrize("width", [0.1, 0.25, 0.7])
def test_a_pulse_of_a_width_has_its_textbook_harmonics(width):
    n = np.arange(1, 12)
    true = 5.0 * 4 / (np.pi * n) * np.abs(np.sin(np.pi * n * width))
    assert harmonics(pulse(500, width=width, **ONE), 500, 11) == pytest.approx(true, abs=1e-9)


def test_a_sine_has_its_level():
    assert harmonics(sine(440, **ONE), 440, 1)[0] == pytest.approx(5.0)


def test_noise_repeats_with_its_seed_and_has_its_level():
    first, again = noise(seed=3, **ONE), noise(seed=3, **ONE)
    assert (first == again).all()
    assert np.sqrt(np.mean(first**2)) == pytest.approx(5.0)
    assert (noise(seed=4, **ONE) != first).any()


def test_pink_noise_falls_by_three_decibels_an_octave():
    record = noise(seed=3, pink=True, level_v=1.0, duration_s=8.0, sample_rate_hz=RATE)
    power = np.abs(np.fft.rfft(record)) ** 2
    hz = np.fft.rfftfreq(record.size, 1 / RATE)
    octaves = [power[(hz >= f) & (hz < 2 * f)].mean() for f in (100, 200, 400, 800, 1600, 3200)]
    assert np.diff(10 * np.log10(octaves)) == pytest.approx(np.full(5, -3.01), abs=0.3)


@pytest.mark.parametrize("make", [
    lambda: sine(0, **ONE), lambda: saw(30_000, **ONE), lambda: pulse(100, width=1.0, **ONE),
    lambda: sine(100, level_v=1, duration_s=0, sample_rate_hz=RATE),
    lambda: sweep_stimulus(SweepPlan(to_hz=30_000), sample_rate_hz=RATE),
    lambda: sweep_stimulus(SweepPlan(sweep_s=0), sample_rate_hz=RATE),
])
def test_sources_refuse_what_they_cannot_make(make):
    with pytest.raises(SignalError):
        make()


def test_the_sweep_plays_twice_the_same_between_silences():
    plan = SweepPlan(level_v=2.0)
    record = sweep_stimulus(plan, sample_rate_hz=RATE)
    silence, sweep = round(0.5 * RATE), round(5 * RATE)
    assert record.size == 3 * silence + 2 * sweep
    first = record[silence : silence + sweep]
    assert (first == record[2 * silence + sweep : 2 * silence + 2 * sweep]).all()
    assert not record[:silence].any()
    assert np.abs(first).max() == pytest.approx(2.0, rel=1e-4)


def test_every_octave_of_the_sweep_takes_equal_time_at_constant_level():
    record = sweep_stimulus(SweepPlan(silence_s=0.0), sample_rate_hz=RATE)[: 5 * RATE]
    crossings = np.flatnonzero((record[:-1] < 0) & (record[1:] >= 0))
    hz = RATE / np.diff(crossings)
    when = (crossings[:-1] + crossings[1:]) / 2
    fast = (hz > 100) & (hz < 2000)
    slope = np.polyfit(when[fast] / RATE, np.log2(hz[fast]), 1)[0]
    assert slope == pytest.approx(np.log2(21_500 / 10) / 5, rel=1e-3)
