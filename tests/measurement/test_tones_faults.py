"""Stepped tones of which each is heard once: what is wrong with a recording of them is named, clean ones are not."""

import numpy as np
import pytest
from scipy.signal import butter, lfilter, sosfilt

from benchmarks.trust import noise_of
from jiyuu.errors import MeasurementError
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.rational_fit import fit_rational, late_between_tones, poles_and_zeros, refit
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.tones_found import tones_of
from jiyuu.measurement.tones_heard import broken, heard_tone, less_hum, noise_near, steady_part, unsettled
from jiyuu.signals.stimuli import tones_stimulus
from jiyuu.wording.notices import notice_sentence
from tests.trials import some
from tests.truths import Made, Recorded, exact, recorded

RATE, PASSBAND = 48_000, "passband_db"
PLAYED_HZ = 25.0 * 2 ** (np.arange(57) / 6)
LADDER = Made("transistor-ladder", "lowpass-24", 820.0, 2.0)
PLAYED = {"per_octave": 6, "from_hz": 25.0, "to_hz": 18_000.0}
HEARD = Recorded(LADDER, lambda: tones_stimulus(level_v=1.0, sample_rate_hz=RATE, **PLAYED), RATE)


def noisy(record, share=1e-3, seed=5, colour="white"):
    return record + noise_of(colour, record.size, share * HEARD.rms, np.random.default_rng(seed))


def wrong(made, response, *, gain_too=False):
    """Readings that are off by far more than they state."""
    read = read_response(response)
    truth = exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    found = {}
    for name, _ in READ_FROM_CURVE:
        value = getattr(read.reading, name)
        if value is not None and name in truth and name in read.uncertainty and not (gain_too and name == PASSBAND):
            found[name] = abs(value - truth[name]) / read.uncertainty[name]
    off = {name: ratio for name, ratio in found.items() if ratio > 2.5}
    return off, {notice.fault for notice in read.notices}, read


def when(hertz):
    """Seconds into the recording at which a tone is half over."""
    tone = tones_of(HEARD.stimulus, RATE)[int(np.argmin(np.abs(PLAYED_HZ - hertz)))]
    return 0.5 * (tone.start + tone.stop) / RATE + 0.0123


def lost(at_s, samples):
    return np.delete(HEARD.clean, np.arange(round(at_s * RATE), round(at_s * RATE) + samples))


@pytest.mark.parametrize(("fault", "make"), some([
    (Fault.HUM, lambda: noisy(HEARD.clean + HEARD.hum(50.04, 0.02 * HEARD.peak, 0.5))),
    (Fault.GAIN_CHANGED, lambda: noisy(np.where(when(900.0) < HEARD.t, 10 ** (-1.5 / 20), 1.0) * HEARD.clean)),
    (Fault.GAIN_CHANGED, lambda: noisy(np.where(when(400.0) < HEARD.t, 10 ** (0.3 / 20), 1.0) * HEARD.clean)),
    (Fault.CLIPPED, lambda: noisy(np.clip(HEARD.clean, -0.8 * HEARD.peak, 0.8 * HEARD.peak), 1e-4)),
    (Fault.DROPOUT, lambda: noisy(np.where(np.abs(HEARD.t - when(500.0)) < 0.02, 0.0, HEARD.clean))),
    (Fault.STARTED_LATE, lambda: noisy(HEARD.clean)[round(when(60.0) * RATE) :]),
    (Fault.ENDED_EARLY, lambda: noisy(HEARD.clean)[: round(when(9000.0) * RATE)]),
    (Fault.COMPRESSED, lambda: noisy(np.tanh(0.5 * HEARD.clean / HEARD.peak) / 0.5 * HEARD.peak)),
    (Fault.DROPOUT, lambda: noisy(lost(when(900.0), 300))),  # in the middle of one
    (Fault.COMPRESSED, lambda: noisy(lost(0.5 * (when(900.0) + when(1010.0)), 300))),  # in the gap between two
], 2, long=6))
def test_a_fault_is_named_and_no_number_is_off_by_more_than_it_states(fault, make):
    record = make()
    response = measure_response(HEARD.stimulus, record, RATE)
    off, named, read = wrong(LADDER, response, gain_too=fault is Fault.GAIN_CHANGED)
    assert fault in named
    assert not off
    assert all(notice_sentence(notice).endswith(".") for notice in read.notices)


@pytest.mark.long
def test_a_change_of_gain_is_told_with_its_place_and_its_size():
    at_s = when(900.0)
    record = noisy(np.where(at_s < HEARD.t, 10 ** (-1.5 / 20), 1.0) * HEARD.clean)
    (notice,) = measure_response(HEARD.stimulus, record, RATE).notices
    assert notice.at_s == pytest.approx(at_s, abs=0.4)
    assert notice.facts["db"] == pytest.approx(-1.5, abs=0.01)
    assert "what follows was brought to what came before it" in notice_sentence(notice)


@pytest.mark.parametrize(("made", "ppm", "sign", "colour"), some([
    (LADDER, 20.0, 1, "white"), (LADDER, 0.0, -1, "pink"),
    (Made("state-variable", "bandpass", 87.0, 0.98), 0.0, -1, "white"),  # its ring is loudest long after it begins
    (Made("state-variable", "bandpass", 79.0, 0.15), 62.0, 1, "white"),
    (Made("transistor-ladder", "highpass-12", 35.0, 2.4), 0.0, 1, "white"),
    (Made("transistor-ladder", "bandpass-24", 112.0, 0.4), 0.0, -1, "pink"),
    (Made("state-variable", "notch", 700.0, 0.0), -40.0, 1, "pink"),
], 1, long=3))
def test_a_clean_recording_is_not_complained_of(made, ppm, sign, colour):
    clean = sign * recorded(made, HEARD.stimulus, RATE, ppm=ppm)
    record = clean + noise_of(colour, clean.size, 1e-3 * clean.std(), np.random.default_rng(2))
    off, named, _ = wrong(made, found := measure_response(HEARD.stimulus, record, RATE))
    assert not named
    assert not off
    assert found.network is not None
    assert found.steady
    assert found.compression is not None
    assert found.compression.share.max() < 0.01
    assert found.polarity == sign
    late = found.latency_s
    assert abs(late.value - 0.0123) < 2.5 * late.uncertainty


@pytest.mark.parametrize(("made", "kind"), some([
    (Made("state-variable", "highpass", 300.0, 1.2), "highpass"),
    (Made("state-variable", "bandpass", 400.0, 1.0), "bandpass"),
    (Made("state-variable", "notch", 700.0, 0.5), "notch"), (LADDER, "lowpass"),
], 1))
def test_an_interface_that_falls_low_down_is_named_whatever_is_behind_it(made, kind):
    clean = sosfilt(butter(1, 14.0, "highpass", fs=RATE, output="sos"), recorded(made, HEARD.stimulus, RATE))
    record = clean + noise_of("white", clean.size, 3e-4 * clean.std(), np.random.default_rng(3))
    off, named, read = wrong(made, measure_response(HEARD.stimulus, record, RATE))
    assert Fault.INTERFACE_HIGHPASS in named
    assert not off
    (notice,) = (notice for notice in read.notices if notice.fault is Fault.INTERFACE_HIGHPASS)
    assert notice.facts["hz"] == pytest.approx(14.0, rel=0.02)
    if read.reading.kind.value != kind:  # the sentence says what it is without
        assert f"without which this is a {kind}" in notice_sentence(notice)


def test_most_tones_missing_says_what_to_do():
    with pytest.raises(MeasurementError, match="start recording first"):
        measure_response(HEARD.stimulus, noisy(HEARD.clean)[round(when(5500.0) * RATE) :], RATE)
    with pytest.raises(MeasurementError, match="ends before the stimulus"):
        measure_response(HEARD.stimulus, noisy(HEARD.clean)[: round(when(60.0) * RATE)], RATE)


# What is heard of each tone


def heard(record):
    tones = zip(tones_of(HEARD.stimulus, RATE), PLAYED_HZ, strict=True)
    return [heard_tone(HEARD.stimulus, record, tone, 0, hertz, RATE) for tone, hertz in tones]


def test_a_wire_returns_every_tone_with_its_harmonics():
    for tone in heard(0.5 * HEARD.stimulus + 0.02 * HEARD.stimulus**3 + 0.1):
        assert abs(tone.gain - (0.5 + 0.75 * 0.02)) < 1e-9
        assert tone.third_v == pytest.approx(0.25 * 0.02, abs=1e-9)
        assert tone.noise_v < 1e-9


@pytest.mark.long
@pytest.mark.parametrize("power", some([0.0, 0.5, 1.0], 1))
def test_noise_near_a_tone_is_that_of_its_frequency(power):
    """White, pink and between: of noise as strong as (1 kHz/f)**power the part beside each tone is known."""
    ratios = []
    for seed in range(3):
        white = np.random.default_rng(seed).normal(0, 1e-3, HEARD.stimulus.size)
        hertz = np.fft.rfftfreq(white.size, 1 / RATE)
        shape = np.concatenate([[0.0], (1000 / hertz[1:]) ** (power / 2)])
        near = noise_near(heard(HEARD.stimulus + np.fft.irfft(np.fft.rfft(white) * shape, white.size)))
        ratios.append(near / (1e-3 * (1000 / PLAYED_HZ) ** (power / 2)))
    middle = np.sqrt(np.mean(np.square(ratios), axis=0))
    assert np.median(middle) == pytest.approx(1.0, abs=0.08)
    assert ((middle > 0.75) & (middle < 1.7)).all()  # the lowest have more of it under them than over them


@pytest.mark.long
def test_gains_scatter_by_what_the_noise_near_them_makes():
    z = []
    for seed in some(range(3), 2):
        tones = heard(noise_of("pink", HEARD.stimulus.size, 1e-3, np.random.default_rng(seed)) + HEARD.stimulus)
        near = noise_near(tones)
        z.append(np.abs([tone.gain - 1 for tone in tones]) * np.sqrt([tone.left.size for tone in tones]) / (2 * near))
    assert 0.75 < np.sqrt(np.mean(np.square(z))) < 1.15  # the lowest state a little more than they need


def test_a_ring_that_has_not_died_counts_and_a_steady_tone_does_not():
    noise = np.random.default_rng(1).normal(0, 1e-4, HEARD.stimulus.size)
    steady = heard(HEARD.stimulus + noise)
    assert np.median(unsettled(steady, noise_near(steady))) == 0.0
    ringing = heard(lfilter([1.0], np.poly(np.exp((-30.0 + 2j * np.pi * np.array([300.0, -300.0])) / RATE)).real,
                            HEARD.stimulus) * 1e-3 + noise)
    rings = unsettled(ringing, noise_near(ringing)) / np.abs([tone.out for tone in ringing])
    assert rings[np.argmin(np.abs(PLAYED_HZ - 320))] > 0.01


def test_a_tone_that_breaks_off_is_found_and_one_that_rings_is_not():
    noise = np.random.default_rng(1).normal(0, 1e-4, HEARD.stimulus.size)
    part = steady_part(tones_of(HEARD.stimulus, RATE)[20])
    gap = HEARD.stimulus.copy()
    gap[part.stop - 900 : part.stop] = 0.0
    for record, expected in ((gap, [20]), (HEARD.stimulus, [])):
        tones = heard(record + noise)
        assert broken(tones, noise_near(tones)) == expected


@pytest.mark.parametrize("mains_hz", some([49.93, 60.05], 1, long=2))
def test_hum_is_taken_out_in_two_rounds(mains_hz):
    t = np.arange(HEARD.stimulus.size) / RATE
    hum = 0.01 * np.sin(2 * np.pi * mains_hz * t + 1) + 0.003 * np.sin(6 * np.pi * mains_hz * t)
    record = HEARD.stimulus + hum + np.random.default_rng(1).normal(0, 1e-4, t.size)
    less, found = less_hum(record, heard(record), slice(0, round(0.48 * RATE)), RATE)
    assert found.mains_hz == pytest.approx(mains_hz, abs=0.01)
    assert np.std(less - record + hum) < 0.1 * np.std(hum)
    again, _ = less_hum(less, heard(less), slice(0, round(0.48 * RATE)), RATE, rest=True)
    assert np.std(again - record + hum) < 0.03 * np.std(hum)
    quiet = HEARD.stimulus + np.random.default_rng(1).normal(0, 1e-4, t.size)
    assert less_hum(quiet, heard(quiet), slice(0, round(0.48 * RATE)), RATE)[1] is None


# Rational functions between tones


UNIT_HZ = float(np.sqrt(PLAYED_HZ[0] * PLAYED_HZ[-1]))
PAIR = np.array([-120.0 + 900.0j, -120.0 - 900.0j]) / UNIT_HZ
SPREAD = np.full(PLAYED_HZ.size, 1e-5)


def pair_gain(hertz):
    s = 1j * hertz / UNIT_HZ
    return 1.0 / ((s - PAIR[0]) * (s - PAIR[1]))


@pytest.mark.parametrize("late_ms", [-1.1, 0.0, 0.4, 1.2])
def test_a_delay_is_found_where_the_phase_turns_more_than_once_between_tones(late_ms):
    gain = pair_gain(PLAYED_HZ) * np.exp(-2j * np.pi * PLAYED_HZ * 1e-3 * late_ms)
    late = late_between_tones(PLAYED_HZ, gain, SPREAD) / (2 * np.pi * UNIT_HZ)
    assert late == pytest.approx(1e-3 * late_ms, abs=2e-5)
    fit = fit_rational(PLAYED_HZ, gain, SPREAD, np.zeros(PLAYED_HZ.size))
    assert fit.poles.size == 2
    assert fit.delay[0] / (2 * np.pi * UNIT_HZ) == pytest.approx(1e-3 * late_ms, abs=1e-7)


def test_a_change_of_gain_is_fitted_beside_the_poles():
    behind = (PLAYED_HZ > 700).astype(float)
    gain = pair_gain(PLAYED_HZ) * np.exp(0.2 * behind)
    fit = refit(PLAYED_HZ, gain, SPREAD, np.zeros(PLAYED_HZ.size), 1.2 * PAIR, np.zeros(2), rounds=12, raised=behind)
    assert fit.delay[2] == pytest.approx(0.2, abs=1e-9)
    assert np.sort_complex(fit.poles) == pytest.approx(np.sort_complex(PAIR))


def test_factors_are_those_of_the_sum():
    gain = pair_gain(PLAYED_HZ) * (1j * PLAYED_HZ / UNIT_HZ + 0.7)
    fit = fit_rational(PLAYED_HZ, gain, SPREAD, np.zeros(PLAYED_HZ.size))
    factors = poles_and_zeros(fit)
    assert np.sort_complex(factors.poles) == pytest.approx(UNIT_HZ * np.sort_complex(PAIR))
    assert factors.zeros.min() == pytest.approx(-0.7 * UNIT_HZ, rel=1e-4)


@pytest.mark.long
def test_where_hardly_more_than_a_tone_is_heard_the_others_still_tell_the_beginning():
    """Of a sharp resonance the loudest tone is like itself for as long as it lasts: thousands of samples."""
    made, rate = Made("transistor-ladder", "bandpass-24", 6986.6, 3.783), 96_000
    stimulus = tones_stimulus(level_v=1.0, sample_rate_hz=rate, per_octave=6)
    clean = recorded(made, stimulus, rate, ppm=-56.0, delay_s=607.5 / rate)
    noise = noise_of("white", clean.size, 6e-3 * clean[stimulus.size // 2 :].std(), np.random.default_rng(2))
    response = measure_response(stimulus, clean + noise, rate)
    assert abs(response.latency_s.value * rate - 607.5) < 1.0
    assert not response.notices
    assert abs(read_response(response).reading.peak_hz - exact(made, (20.0, 18_000.0))["peak_hz"]) < 1.0


@pytest.mark.long
def test_what_two_clocks_leave_between_high_tones_counts():
    """Of a passband above all tones their phases tell most, and a clock turns these by a tenth within half a minute."""
    made = Made("transistor-ladder", "highpass-24", 10_640.0, 2.25)
    stimulus = tones_stimulus(level_v=1.0, sample_rate_hz=RATE, per_octave=6)
    clean = recorded(made, stimulus, RATE)
    noise = noise_of("white", clean.size, 2.6e-3 * clean.std(), np.random.default_rng(2))
    response = measure_response(stimulus, clean + noise, RATE)
    read, truth = read_response(response), exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    for name in ("cutoff_3db_hz", "passband_db", "first_octave_drop_db"):
        assert abs(getattr(read.reading, name) - truth[name]) < 2 * read.uncertainty[name]


@pytest.mark.long
def test_tones_that_still_ring_are_known_as_well_as_that():
    """At 43 Hz a Q of 33 rings for as long as a tone, and louder than those above it: hardly any tells the clock."""
    made = Made("state-variable", "lowpass", 43.0, 1.97)
    stimulus = tones_stimulus(level_v=1.0, sample_rate_hz=44_100, per_octave=6)
    clean = recorded(made, stimulus, 44_100, ppm=62.0)
    noise = noise_of("white", clean.size, 3e-4 * clean.std(), np.random.default_rng(1))
    response = measure_response(stimulus, clean + noise, 44_100)
    assert abs(response.clock_offset_ppm.value - 62.0) <= response.clock_offset_ppm.uncertainty
    read, truth = read_response(response), exact(made, (20.0, 18_000.0))
    for name in ("peak_hz", "cutoff_3db_hz"):
        assert abs(getattr(read.reading, name) - truth[name]) <= read.uncertainty[name] < 0.02 * truth[name]


@pytest.mark.long
def test_hum_louder_than_every_tone_is_named_and_taken_out():
    """No tone stands clear of the silence: the clock is told by all of their phases."""
    hum = 2.0 * HEARD.peak * np.sin(2 * np.pi * 50.0 * HEARD.t)
    response = measure_response(HEARD.stimulus, noisy(HEARD.clean) + hum, RATE)
    read, truth = read_response(response), exact(LADDER, (response.frequency_hz[0], response.frequency_hz[-1]))
    assert {notice.fault for notice in read.notices} == {Fault.HUM}
    for name in ("peak_hz", "peak_db", "q", "cutoff_3db_hz", "passband_db"):
        assert abs(getattr(read.reading, name) - truth[name]) < read.uncertainty[name] < 0.01 * abs(truth[name])
