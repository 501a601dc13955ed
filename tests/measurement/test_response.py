"""Response measurement on recordings whose truth is known."""

import numpy as np
import pytest
from scipy.fft import next_fast_len
from scipy.interpolate import CubicSpline

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.response import measure_response
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.trials import some
from tests.truths import sampled_by

RATE = 48_000


def through(stimulus, circuit_id, mode, *, cutoff_hz, gain, rate=RATE, delay_s=0.0, ppm=0.0, sign=1, noise_db=None,
            seed=1, **parameters):
    """The stimulus through the linear circuit, by its transfer function on a long spectrum; then the recorder."""
    room = np.concatenate([stimulus, np.zeros(rate)])
    size = 2 * next_fast_len(3 * room.size // 4, real=True)
    hz = np.fft.rfftfreq(size, 1 / rate)
    network = circuit(circuit_id).network(parameters)
    # Between so many places a curve of a few poles is its spline to ten digits.
    places = np.geomspace(hz[1], hz[-1], 30_000)
    known = complex_gain(network, places, cutoff_hz=cutoff_hz, gain=gain, modes=[mode])[0]
    gains = np.zeros(hz.size, complex)
    gains[1:] = CubicSpline(np.log(places), known)(np.log(hz[1:]))
    spectrum = np.fft.rfft(room, size) * gains * np.exp(-2j * np.pi * hz * delay_s)
    output = sign * sampled_by(spectrum, size, room.size, ppm)
    if noise_db is not None:
        loud = output[np.abs(room[: output.size]) > 0]
        level = np.sqrt(np.mean(loud**2)) * 10 ** (noise_db / 20)
        output = output + np.random.default_rng(seed).normal(0, level, output.size)
    return output


CASES = [
    ("transistor-ladder", "lowpass-24", 820.0, 2.0), ("transistor-ladder", "highpass-24", 500.0, 1.0),
    ("state-variable", "bandpass", 1200.0, 1.6), ("state-variable", "lowpass", 3000.0, 1.8),
    ("sallen-key-highpass", "highpass-12", 300.0, 1.0), ("diode-ladder", "lowpass-24", 700.0, 9.0),
    ("pole-mixer", "notch", 1000.0, 0.0),
]


@pytest.mark.parametrize(("circuit_id", "mode", "cutoff_hz", "gain"), some(CASES, 1, long=3))
def test_a_noisy_late_inverted_recording_from_another_clock(circuit_id, mode, cutoff_hz, gain):
    stimulus = sweep_stimulus(SweepPlan(level_v=5.0), sample_rate_hz=RATE)
    recording = through(stimulus, circuit_id, mode, cutoff_hz=cutoff_hz, gain=gain, delay_s=0.037, ppm=80.0, sign=-1,
                        noise_db=-60)
    found = measure_response(stimulus, recording, RATE)
    true = complex_gain(circuit(circuit_id).network(), found.frequency_hz, cutoff_hz=cutoff_hz, gain=gain,
                        modes=[mode])[0]
    level = 20 * np.log10(np.abs(true))
    passband = np.median(level[level > level.max() - 3])
    clear = (level > passband - 40) & (found.frequency_hz > 25) & (found.frequency_hz < 18_000)
    assert np.abs(found.level_db - level)[clear].max() < 0.1
    angle = np.rad2deg(np.angle(-found.gain / true))[clear]
    assert np.abs(angle).max() < 3.0
    assert found.polarity == -1
    assert found.latency_s.value == pytest.approx(0.037, abs=1 / RATE)
    assert found.clock_offset_ppm.value == pytest.approx(80, abs=0.3)
    assert found.noise_floor_db == pytest.approx(-60, abs=1.0)


@pytest.mark.parametrize("rate", some([44_100, 96_000], 1))
def test_other_rates_and_a_clean_recording_is_measured_to_a_thousandth_of_a_decibel(rate):
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, to_hz=20_000), sample_rate_hz=rate)
    recording = through(stimulus, "transistor-ladder", "lowpass-24", cutoff_hz=1000.0, gain=1.0, rate=rate,
                        delay_s=0.01)
    found = measure_response(stimulus, recording, rate)
    true = complex_gain(circuit("transistor-ladder").network(), found.frequency_hz, cutoff_hz=1000.0, gain=1.0,
                        modes=["lowpass-24"])[0]
    inside = (found.frequency_hz > 25) & (np.abs(true) > 0.01 * np.abs(true).max())
    assert np.abs(found.level_db - 20 * np.log10(np.abs(true)))[inside].max() < 0.003
    assert found.clock_offset_ppm.value == pytest.approx(0, abs=0.05)


@pytest.mark.long
def test_a_single_sweep_tells_its_clock_too():
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0), sample_rate_hz=RATE)[: round(6.0 * RATE)]
    recording = through(stimulus, "state-variable", "lowpass", cutoff_hz=900.0, gain=1.0, noise_db=-60)
    found = measure_response(stimulus, recording, RATE)
    assert found.passages == 1
    assert abs(found.clock_offset_ppm.value) < max(2 * found.clock_offset_ppm.uncertainty, 0.05)
    assert read_response(found).reading.peak_hz == pytest.approx(900 * np.sqrt(0.5), rel=3e-3)


@pytest.mark.long
def test_the_sweep_says_what_kind_of_curve_it_is():
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE)
    kinds = {}
    for mode in ("lowpass", "bandpass", "highpass", "notch"):
        recording = through(stimulus, "state-variable", mode, cutoff_hz=900.0, gain=0.5, noise_db=-70)
        kinds[mode] = read_response(measure_response(stimulus, recording, RATE)).reading.kind
    assert kinds == {"lowpass": Kind.LOWPASS, "bandpass": Kind.BANDPASS, "highpass": Kind.HIGHPASS,
                     "notch": Kind.NOTCH}


@pytest.mark.long
def test_distortion_of_the_unit_stays_out_of_the_curve():
    """A square law at −40 dB makes a second sweep an octave up; deconvolution puts it before the response."""
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0), sample_rate_hz=RATE)
    recording = np.concatenate([stimulus + 0.02 * stimulus**2, np.zeros(RATE)])
    found = measure_response(stimulus, recording, RATE)
    inside = (found.frequency_hz > 40) & (found.frequency_hz < 8_000)  # squaring samples folds around 16 kHz
    assert np.abs(found.level_db[inside]).max() < 0.01


@pytest.mark.parametrize(("stimulus", "recording", "message"), [
    (np.zeros(48_000), np.ones(48_000), "stimulus is silent"),
    (np.ones(48_000), np.zeros(48_000), "recording is silent"),
    (np.ones(100), np.ones(48_000), "only 100 samples"),
    (np.ones(48_000), np.full(48_000, np.nan), "not numbers"),
])
def test_records_that_cannot_be_measured(stimulus, recording, message):
    with pytest.raises(MeasurementError, match=message):
        measure_response(stimulus, recording, RATE)


def test_a_recording_of_something_else_is_refused():
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE)
    other = np.random.default_rng(1).normal(0, 1, stimulus.size)
    with pytest.raises(MeasurementError, match=r"not to be found|noise"):
        measure_response(stimulus, other, RATE)


def test_a_recording_that_ends_early_is_refused():
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE)
    with pytest.raises(MeasurementError, match=r"record until|not to be found"):
        measure_response(stimulus, stimulus[: round(1.2 * RATE)], RATE)


def test_the_offset_of_a_unit_does_not_bend_the_low_end():
    """A recorder that begins with silence of its own, then the unit's 2 mV beside a stimulus of 20 mV."""
    stimulus = sweep_stimulus(SweepPlan(level_v=0.02, sweep_s=2.0), sample_rate_hz=RATE)
    recording = through(stimulus, "sallen-key-highpass", "highpass-12", cutoff_hz=700.0, gain=0.0, delay_s=0.012)
    recording[600:] += 0.002
    found = measure_response(stimulus, recording, RATE)
    true = complex_gain(circuit("sallen-key-highpass").network(), found.frequency_hz, cutoff_hz=700.0, gain=0.0,
                        modes=["highpass-12"])[0]
    assert np.abs(found.level_db - 20 * np.log10(np.abs(true)))[found.frequency_hz > 40].max() < 0.1
