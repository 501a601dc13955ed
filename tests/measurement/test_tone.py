"""The tone measurement against the Cramér–Rao bound and signals of known content."""

import numpy as np
import pytest

from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.tone import measure_tone, partials
from jiyuu.measurement.tone_faults import read_tone
from jiyuu.wording.notices import notice_sentence
from tests.trials import some

RATE = 48_000


def tone(hz, *, seconds=1.0, snr_db=None, seed=0, harmonics=(), dc=0.0, level=1.0):
    t = np.arange(round(seconds * RATE)) / RATE
    record = dc + level * np.sin(2 * np.pi * hz * t + 0.7)
    for number, share in enumerate(harmonics, start=2):
        record = record + level * share * np.sin(2 * np.pi * number * hz * t + number)
    if snr_db is not None:
        record = record + np.random.default_rng(seed).normal(0, level / np.sqrt(2) * 10 ** (-snr_db / 20), t.size)
    return record


@pytest.mark.parametrize("hz", some([32.7, 261.37], 1))
@pytest.mark.parametrize(("snr_db", "seconds"), some([(20, 0.2), (20, 1.0), (50, 0.2), (80, 0.2)], 2, long=4))
def test_scatter_keeps_to_the_bound(hz, snr_db, seconds):
    count = round(seconds * RATE)
    eta = 10 ** (snr_db / 10)
    bound = np.sqrt(12 * RATE**2 / (4 * np.pi**2 * eta * count * (count**2 - 1)))
    found = [
        measure_tone(tone(hz, seconds=seconds, snr_db=snr_db, seed=seed, harmonics=(0.3, 0.1), dc=0.5), RATE)
        for seed in range(16)
    ]
    error = np.array([f.frequency_hz.value - hz for f in found])
    assert np.sqrt(np.mean(error**2)) < 1.5 * bound + 0.002 / 1200 * np.log(2) * hz
    stated = np.median([f.frequency_hz.uncertainty for f in found])
    assert 0.5 * bound < stated / 2 < 1.5 * bound


@pytest.mark.parametrize("hz", [27.5, 110.0, 440.0, 1234.5, 9876.5])
def test_a_clean_tone_to_a_thousandth_of_a_cent(hz):
    found = measure_tone(tone(hz, harmonics=(0.2, 0.05), dc=-0.3, level=2.5), RATE)
    assert abs(1200 * np.log2(found.frequency_hz.value / hz)) < 1e-3
    assert found.amplitude_peak_v == pytest.approx(2.5, rel=1e-6)
    assert found.dc_v == pytest.approx(-0.3, abs=1e-5)
    if hz < 6000:
        assert found.thd_percent == pytest.approx(100 * np.hypot(0.2, 0.05), rel=1e-4)
        assert found.harmonics_db[1] == pytest.approx(20 * np.log10(0.2), abs=1e-3)


def test_a_weak_fundamental_under_strong_harmonics_is_still_the_fundamental():
    found = measure_tone(tone(100.0, harmonics=(0.9, 1.6)), RATE)
    assert found.frequency_hz.value == pytest.approx(100.0, abs=1e-4)


def test_note_and_cents_follow_the_concert_pitch():
    found = measure_tone(tone(442.0), RATE)
    assert (found.note, round(found.cents, 2)) == ("A4", 7.85)
    assert measure_tone(tone(442.0), RATE, concert_a_hz=442.0).cents == pytest.approx(0, abs=1e-3)


def test_noise_counts_in_thd_n_but_not_in_thd():
    found = measure_tone(tone(440.0, snr_db=40, seed=1), RATE)
    assert found.thd_percent < 0.2
    assert found.thd_n_percent == pytest.approx(1.0, rel=0.1)


@pytest.mark.parametrize(("record", "message"), [
    (np.zeros(4800), "silent"), (np.ones(10), "10 samples"), (np.full(4800, np.nan), "not numbers"),
    (np.random.default_rng(0).normal(0, 1, 48_000), "No steady tone"), (np.full(4800, 2.0), "silent"),
])
def test_records_without_a_tone(record, message):
    with pytest.raises(MeasurementError, match=message):
        measure_tone(record, RATE)


@pytest.mark.parametrize(("from_s", "to_s"), some([(0.5, 3.5), (3.0, 4.0), (0.0, 0.7), (1.99, 4.0)], 1, long=2))
@pytest.mark.parametrize("around_v", [0.0, 1e-3])
def test_silence_ahead_and_behind_is_no_part_of_the_tone_and_no_fault_of_it(from_s, to_s, around_v):
    """Noise of the recorder and its offset around it, or nothing at all."""
    t = np.arange(4 * 48_000) / 48_000
    sounds = (t >= from_s) & (t < to_s)
    noise = np.random.default_rng(2).normal(0, 1e-3, t.size)
    tone = np.sin(2 * np.pi * 441.3 * t) + 0.05 * np.sin(2 * np.pi * 882.6 * t)
    record = np.where(sounds, tone + noise + 0.02, around_v * (noise / 1e-3) + (0.02 if around_v else 0.0))
    found = measure_tone(record, 48_000.0)
    assert abs(found.frequency_hz.value - 441.3) < 2 * found.frequency_hz.uncertainty < 1e-4
    assert found.amplitude_peak_v == pytest.approx(1.0, rel=1e-4)
    assert found.thd_percent == pytest.approx(5.0, rel=2e-3)
    assert found.dc_v == pytest.approx(0.02, abs=1e-4)
    assert read_tone(record, 48_000.0)[1] == []
    gap = np.where((t > from_s + 0.3) & (t < from_s + 0.4), 0.0, record)
    (notice,) = read_tone(gap, 48_000.0)[1]
    assert notice.fault is Fault.DROPOUT
    assert notice.at_s == pytest.approx(from_s + 0.3, abs=0.03)


def test_a_whistle_that_starts_up_is_measured_as_it_settles():
    t = np.arange(3 * 48_000) / 48_000
    swell = 1 / (1 + np.exp(-(t - 0.8) / 0.03))
    record = swell * np.sin(2 * np.pi * 372.0 * t) + np.random.default_rng(3).normal(0, 1e-4, t.size)
    found = measure_tone(record, 48_000.0)
    assert found.amplitude_peak_v == pytest.approx(1.0, rel=2e-3)
    assert found.frequency_hz.value == pytest.approx(372.0, rel=1e-6)
    assert found.thd_n_percent < 0.5
    assert read_tone(record, 48_000.0)[1] == []


@pytest.mark.parametrize("sizes", [
    (0.42, 0.52, 0.21, 0.34, 0.77), (0.48, 0.45, 0.82, 0.23, 0.81, 0.84), (0.3, 1.0), (0.1, 0.2, 1.0),
    (0.56, 0.5, 0.59, 0.56, 0.67)], ids=str)
@pytest.mark.parametrize("hertz", some([47.7, 990.3], 1))
def test_a_fundamental_is_the_pitch_however_loud_its_harmonics(sizes, hertz):
    t = np.arange(72_000) / 48_000
    record = sum(size * np.sin(2 * np.pi * n * hertz * t + n * n) for n, size in enumerate(sizes, start=1))
    record = record + np.random.default_rng(5).normal(0, 1e-3, t.size)
    found = measure_tone(record, 48_000.0)
    assert found.frequency_hz.value == pytest.approx(hertz, abs=2.5 * found.frequency_hz.uncertainty)
    assert found.amplitude_peak_v == pytest.approx(sizes[0], rel=1e-3)
    assert read_tone(record, 48_000.0)[1] == []


@pytest.mark.parametrize("sizes", [(0.0, 0.65, 0.55, 0.91), (0.0, 0.37, 1.0), (0.0, 0.52, 0.49, 0.35, 0.99)], ids=str)
def test_a_missing_fundamental_is_named(sizes):
    """One of its partials is measured, and it is said that others are no multiples of it."""
    t = np.arange(72_000) / 48_000
    record = sum(size * np.sin(2 * np.pi * n * 300.0 * t + n * n) for n, size in enumerate(sizes, start=1))
    record = record + np.random.default_rng(5).normal(0, 1e-3, t.size)
    found = measure_tone(record, 48_000.0)
    number = round(found.frequency_hz.value / 300.0)
    assert number > 1
    assert found.frequency_hz.value == pytest.approx(300.0 * number, abs=0.01)
    assert [notice.fault for notice in read_tone(record, 48_000.0)[1]] == [Fault.OCTAVE_UNCERTAIN]


def going(cents, *, hz=311.7, partials=(1.0, 0.5, 0.33, 0.25), noise=1e-3, seed=4):
    """A tone whose pitch goes that way: cents (n,) about its own."""
    phase = 2 * np.pi * np.cumsum(hz * 2 ** (cents / 1200)) / RATE
    clean = sum(share * np.sin(n * phase + n * n) for n, share in enumerate(partials, start=1))
    return clean + np.random.default_rng(seed).normal(0, noise, phase.size)


T = np.arange(2 * RATE) / RATE
COURSES = [  # how it goes, what that is called, what pitch it has in cents re its own
    (lambda: going(-2.0 * (T - 1)), Fault.PITCH_UNSTEADY, 0.0),
    (lambda: going(0.2 * (T - 1)), Fault.PITCH_UNSTEADY, 0.0),
    (lambda: going(np.where(T < 1.3, 0.0, 700.0)), Fault.PITCH_UNSTEADY, 0.0),
    (lambda: going(np.where(T < 0.6, 0.0, 5.0)), Fault.PITCH_UNSTEADY, 5.0),
    (lambda: going(np.where(T < 0.7, 0.0, 1200.0)), Fault.OCTAVE_JUMP, 1200.0),
    (lambda: going(np.where(T < 1.4, 0.0, -1200.0), partials=(1.0,)), Fault.OCTAVE_JUMP, 0.0),
    (lambda: np.delete(going(0.0 * T), np.arange(40_000, 40_011)), Fault.SAMPLES_LOST, 0.0),
    (lambda: np.delete(going(0.0 * T, hz=33.7), np.arange(60_000, 60_025)), Fault.SAMPLES_LOST, None),
    (lambda: going(1.0 * np.sin(2 * np.pi * 5.1 * T)), Fault.VIBRATO, 0.0),
    (lambda: going(1.3 * np.sin(2 * np.pi * 2.7 * T), hz=6488.0, partials=(1.0,)), Fault.VIBRATO, None),
]


@pytest.mark.parametrize(("make", "fault", "cents"), some(COURSES, 5, long=10))
def test_a_pitch_that_does_not_stand_is_named_and_its_interval_holds(make, fault, cents):
    found, (notice,) = read_tone(make(), RATE)
    assert notice.fault is fault
    assert notice_sentence(notice).endswith(".")
    if cents is not None:
        off = 1200 * np.log2(found.frequency_hz.value / 311.7) - cents
        assert abs(off) < 1.3 * 1200 / np.log(2) * found.frequency_hz.uncertainty / found.frequency_hz.value
        assert abs(off) < 0.3


def test_of_a_pitch_that_jumps_twice_the_longest_part_is_measured():
    record = going(np.select([T < 0.5, T < 1.0], [0.0, 700.0], 300.0))
    found, notices = read_tone(record, RATE)
    assert 1200 * np.log2(found.frequency_hz.value / 311.7) == pytest.approx(300.0, abs=0.01)
    assert Fault.PITCH_UNSTEADY in {notice.fault for notice in notices}
    assert not any("±0 cents" in notice_sentence(notice) for notice in notices)


def test_how_fast_a_pitch_drifts_how_far_it_jumps_and_when_are_said():
    _, (notice,) = read_tone(going(-2.0 * (T - 1)), RATE)
    assert notice.facts["cents_per_s"] == pytest.approx(-2.0, rel=0.02)
    _, (notice,) = read_tone(going(np.where(T < 1.3, 0.0, -31.0)), RATE)
    assert notice.facts["jump_cents"] == pytest.approx(-31.0, abs=0.01)
    assert notice.at_s == pytest.approx(1.3, abs=0.02)


@pytest.mark.parametrize("seed", some(range(6), 2, long=6))
def test_a_pitch_that_stands_is_not_complained_of(seed):
    """However loud and pink the noise, clicks in it, and while it dies away."""
    generator = np.random.default_rng(seed)
    spectrum = np.fft.rfft(generator.standard_normal(T.size))
    pink = np.fft.irfft(spectrum / np.sqrt(np.arange(1, spectrum.size + 1)), T.size)
    record = going(0.0 * T, hz=float(generator.uniform(40, 4000))) * 10 ** (-generator.uniform(0, 12) * T / 40)
    record += generator.uniform(0.001, 0.03) * pink / pink.std()
    record[50_000:50_012] += 1.5
    assert read_tone(record, RATE)[1] == []


@pytest.mark.parametrize(("samples", "hertz"), [(64, 2111.0), (157, 997.0), (1000, 61.3), (300_001, 441.7)])
def test_what_harmonics_leave_stands_upright_on_each_of_them(samples, hertz):
    """Of a record that is no whole number of periods, longer and shorter than what is gone through at once."""
    record = np.random.default_rng(samples).normal(size=samples)
    phasors, left = partials(record, 48_000.0, hertz)
    t = (np.arange(samples) - (samples - 1) / 2) / 48_000.0
    modelled = np.zeros(samples)
    for k, phasor in enumerate([0.0, *phasors]):
        wave = np.exp(2j * np.pi * hertz * k * t)
        assert abs(wave @ left) < 1e-9 * np.sqrt(samples * (record @ record))
        modelled += (phasor * wave).real
    assert np.ptp(record - left - modelled) < 1e-9  # DC is what else there is
