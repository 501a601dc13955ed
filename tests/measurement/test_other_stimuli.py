"""Response from noise and from stepped tones: late, inverted, from another clock, with noise on top."""

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement.alignment import find_passages
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.tones_response import tones_of
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.measurement.test_response import RATE, through

CASES = [("transistor-ladder", "lowpass-24", 820.0, 2.0), ("state-variable", "bandpass", 1200.0, 1.6),
         ("state-variable", "highpass", 300.0, 1.5)]


def stimulus_of(kind):
    if kind == "tones":
        return tones_stimulus(level_v=1.0, sample_rate_hz=RATE, shortest_s=0.1, periods=10, from_hz=25.0)
    return noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0, pink=kind == "pink")


@pytest.mark.parametrize(("kind", "circuit_id", "mode", "cutoff_hz", "gain"), [
    (kind, *case) for i, case in enumerate(CASES) for kind in (("pink", "tones") if i else ("pink", "white"))
])
def test_noise_and_tones_find_what_a_sweep_finds(kind, circuit_id, mode, cutoff_hz, gain):
    stimulus = stimulus_of(kind)
    recording = through(stimulus, circuit_id, mode, cutoff_hz=cutoff_hz, gain=gain, delay_s=0.037, ppm=60.0, sign=-1,
                        noise_db=-60)
    found = measure_response(stimulus, recording, RATE)
    true = complex_gain(circuit(circuit_id).network(), found.frequency_hz, cutoff_hz=cutoff_hz, gain=gain,
                        modes=[mode])[0]
    level = 20 * np.log10(np.abs(true))
    loud = (level > level.max() - 35) & (found.frequency_hz > 25) & (found.frequency_hz < 19_000)
    assert np.abs(found.level_db - level)[loud].max() < 0.1
    assert np.mean(np.abs(found.level_db - level)[loud] <= found.level_uncertainty_db[loud]) > 0.8
    assert found.polarity == -1
    assert found.clock_offset_ppm.value == pytest.approx(60, abs=0.3)
    assert found.latency_s.value == pytest.approx(0.037, abs=1.5e-4)  # 60 ppm of the seconds before the first sound
    reading = read_response(found).reading
    if mode == "bandpass":
        assert reading.q == pytest.approx(2.5, rel=0.02)
        assert reading.peak_hz == pytest.approx(1200, rel=0.003)
    if mode == "lowpass-24":
        assert reading.cutoff_3db_hz == pytest.approx(990.03, rel=0.003)


def test_coherence_falls_where_the_noise_is():
    """At equal power of signal and noise the coherence is a half; at −20 dB of noise, 0.99."""
    stimulus = noise_stimulus(level_v=1.0, sample_rate_hz=RATE, pink=False)
    for noise, expected in ((1.0, 0.5), (0.1, 1 / 1.01)):
        recording = np.concatenate([stimulus, np.zeros(RATE // 2)])
        recording = recording + np.random.default_rng(3).normal(0, noise * np.sqrt(2), recording.size)
        found = measure_response(stimulus, recording, RATE)  # two passages averaged: half of the noise power
        assert np.median(found.coherence) == pytest.approx(expected, abs=0.03)


def test_stimuli_are_told_apart():
    sweep = sweep_stimulus(SweepPlan(sweep_s=1.0), sample_rate_hz=RATE)
    noise = noise_stimulus(level_v=1.0, sample_rate_hz=RATE, duration_s=1.0)
    tones = tones_stimulus(level_v=1.0, sample_rate_hz=RATE, from_hz=50.0, per_octave=3)
    assert [bool(tones_of(s, RATE)) for s in (sweep, noise, tones)] == [False, False, True]
    assert [find_passages(s).noisy for s in (sweep, noise)] == [False, True]
    assert len(tones_of(tones, RATE)) == int(3 * np.log2(400)) + 1


@pytest.mark.parametrize("kind", ["pink", "tones"])
def test_a_recording_of_something_else_or_cut_short_is_refused(kind):
    stimulus = stimulus_of(kind)
    other = np.random.default_rng(9).normal(0, 1, stimulus.size)
    with pytest.raises(MeasurementError, match=r"not to be found|noisy|noise"):
        measure_response(stimulus, other, RATE)
    with pytest.raises(MeasurementError, match=r"ends before|not to be found"):
        measure_response(stimulus, stimulus[: stimulus.size // 3], RATE)


@pytest.mark.parametrize(("make", "message"), [
    (lambda: noise_stimulus(level_v=1.0, sample_rate_hz=RATE, duration_s=0.1), "at least 0.5 s"),
    (lambda: tones_stimulus(level_v=1.0, sample_rate_hz=RATE, to_hz=30_000.0), "do not fit"),
])
def test_stimuli_that_cannot_be(make, message):
    with pytest.raises(SignalError, match=message):
        make()
