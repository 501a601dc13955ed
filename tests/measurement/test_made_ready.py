"""How far apart passages come, whatever a filter, a cable or a hand did to them, accuses no recorder wrongly."""

import numpy as np
import pytest
from scipy.ndimage import maximum_filter1d

from benchmarks.trust import noise_of
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import find_passages
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.made_ready import made_ready
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.sweep_response import gate_of
from jiyuu.signals.stimuli import noise_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.trials import some
from tests.truths import Made, exact, recorded

RATE = 48_000
READ = ("cutoff_3db_hz", "passband_db", "first_octave_drop_db", "slope_db_per_octave")
SWEEP = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=1.0), sample_rate_hz=RATE)
NOISE = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=1.0, pink=True)
FILTERS = [Made("transistor-ladder", "lowpass-24", 60.0, 3.9), Made("state-variable", "bandpass", 6000.0, 1.99),
           Made("transistor-ladder", "highpass-24", 5000.0, 1.0), Made("state-variable", "notch", 700.0, 0.0)]


def hurt(record, how, rms):
    t = np.arange(record.size) / RATE
    if how == "humming":
        return record + 3 * rms * np.sin(2 * np.pi * 50 * t)
    if how == "noisy":
        return record + noise_of("white", record.size, 0.5 * rms, np.random.default_rng(3))
    if how == "interrupted":
        return np.where((t > 1.2) & (t < 1.5), 0.0, record)
    if how == "turned down":
        return np.where(t > t[-1] / 2, 0.5 * record, record)
    return record[: round(1.9 * RATE)] if how == "ended" else record[round(0.9 * RATE) :]


def refusal(record, stimulus):
    """What is said against it, or nothing."""
    try:
        made_ready(record, find_passages(stimulus), float(RATE))
    except MeasurementError as error:
        return str(error)
    return ""


@pytest.mark.parametrize("made", some(FILTERS, 1))
@pytest.mark.parametrize("how", some(["humming", "noisy", "interrupted", "turned down", "ended", "begun late"], 3,
                                     long=6))
def test_no_other_rate_is_read_out_of_a_fault(made, how):
    stimulus = NOISE if made is FILTERS[0] else SWEEP
    clean = recorded(made, stimulus, RATE, ppm=20.0)
    rms = float(np.sqrt(np.mean(clean[: stimulus.size][stimulus != 0] ** 2)))
    assert "its header says" not in refusal(hurt(clean, how, rms), stimulus)


def switched_off(record, lead_s, tail_s):
    """By a recorder that opens late, a gate or an editor: nothing at all, not even the recorder's own offset."""
    t = np.arange(record.size) / RATE
    return np.where((t < lead_s) | (t > t[-1] - tail_s), 0.0, record)


@pytest.mark.long
@pytest.mark.parametrize("offset_v", some([0.0, 0.02, -0.5], 1))
def test_ends_that_were_never_recorded_move_nothing(offset_v):
    made = Made("transistor-ladder", "lowpass-24", 820.0, 2.0)
    clean = recorded(made, SWEEP, RATE, ppm=20.0)
    record = clean + noise_of("white", clean.size, 1e-3 * clean.std(), np.random.default_rng(1)) + offset_v
    plain = measure_response(SWEEP, record, RATE)
    for ends in ((0.3, 0.5), (0.45, 0.9), (0.0, 0.5)):
        found = measure_response(SWEEP, switched_off(record, *ends), RATE)
        assert not found.notices
        assert found.network is not None
        assert np.abs(found.deviation / plain.deviation - 1).max() < 0.2
        assert np.abs(found.gain / plain.gain - 1)[plain.frequency_hz < 2000].max() < 2e-4
        assert abs(found.latency_s.value - plain.latency_s.value) < plain.latency_s.uncertainty


def test_a_passage_that_was_switched_off_before_it_ended_is_named():
    """Behind the peak of a lowpass nothing is loud, so that the passages are alike."""
    clean = recorded(Made("transistor-ladder", "lowpass-24", 820.0, 2.0), SWEEP, RATE)
    record = clean + noise_of("white", clean.size, 1e-3 * clean.std(), np.random.default_rng(1))
    found = measure_response(SWEEP, switched_off(record, 0.0, 1.6), RATE)
    (notice,) = found.notices
    assert notice.fault is Fault.DROPOUT
    assert notice.at_s == pytest.approx(record.size / RATE - 1.6, abs=0.01)


@pytest.mark.long
@pytest.mark.parametrize(("made", "offset_v"), some([
    (Made("state-variable", "highpass", 300.0, 1.2), 0.0), (Made("state-variable", "highpass", 300.0, 1.2), 0.02),
    (Made("transistor-ladder", "lowpass-24", 820.0, 2.0), 0.0),
], 1))
def test_a_gate_that_closes_while_it_is_faint_is_named_though_both_passages_are_alike(made, offset_v):
    clean = recorded(made, SWEEP, RATE)
    record = clean + noise_of("white", clean.size, 1e-3 * clean.std(), np.random.default_rng(1)) + offset_v
    level = maximum_filter1d(np.abs(clean), round(0.05 * RATE))
    gated = np.where(maximum_filter1d(level, round(0.1 * RATE)) > 0.01 * level.max(), record, 0.0)
    found = measure_response(SWEEP, gated, RATE)
    assert Fault.DROPOUT in [notice.fault for notice in found.notices]
    read = read_response(found)
    assert not read.uncertainty or found.network is not None
    assert Fault.DROPOUT not in [notice.fault for notice in measure_response(SWEEP, record, RATE).notices]


@pytest.mark.parametrize(("bits", "noise_steps"), some([(16, 0.0), (24, 0.0), (24, 0.3), (16, 0.3)], 2, long=4))
@pytest.mark.parametrize("made", some(FILTERS, 1))
def test_few_bits_and_no_noise_are_no_switch(made, noise_steps, bits):
    clean = recorded(made, SWEEP, RATE)
    step = 2 * np.abs(clean).max() / 2 ** (bits - 1)
    noise = noise_of("white", clean.size, noise_steps * step, np.random.default_rng(1)) if noise_steps else 0.0
    ready = made_ready(np.round((clean + noise) / step) * step, find_passages(SWEEP), float(RATE))
    assert Fault.DROPOUT not in [notice.fault for notice in ready.notices]


@pytest.mark.long
@pytest.mark.parametrize(("made", "bits"), some([
    (Made("transistor-ladder", "highpass-24", 500.0, 1.0), 16), (Made("diode-ladder", "lowpass-24", 900.0, 10.0), 12),
], 1))
def test_rounded_without_noise_a_curve_is_known_as_well_as_its_steps_allow(made, bits):
    """What is fainter than some steps is bent by them, alike in both passages."""
    stimulus = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE)
    clean = recorded(made, stimulus, RATE, ppm=20.0)
    clean -= clean[:9000].mean()
    step = 2 * np.abs(clean).max() / 2 ** (bits - 1)
    found = measure_response(stimulus, np.round(clean / step) * step, RATE)
    read, truth = read_response(found), exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    for name in READ:
        assert abs(getattr(read.reading, name) - truth[name]) < 1.5 * read.uncertainty[name]


@pytest.mark.parametrize("seconds", [0.15, 0.6])
@pytest.mark.parametrize("stimulus", [SWEEP, NOISE])
def test_a_recording_shorter_than_its_stimulus_is_refused_in_words(stimulus, seconds):
    record = np.random.default_rng(2).standard_normal(round(seconds * RATE))
    with pytest.raises(MeasurementError, match=r"; (record|check|start)"):
        made_ready(record, find_passages(stimulus), float(RATE))


@pytest.mark.parametrize(("sweep_s", "before", "after"), [(5.0, 0.2, 1.5), (0.5, 0.02, 0.2)])
def test_of_a_short_sweep_less_is_cut_out(sweep_s, before, after):
    """A twenty-fifth before it and two fifths behind it, up to what rings need."""
    plan = SweepPlan(level_v=1.0, sweep_s=sweep_s)
    gate = gate_of(find_passages(sweep_stimulus(plan, sample_rate_hz=RATE)), float(RATE))
    assert gate.before / RATE == pytest.approx(before, abs=0.002)
    assert gate.after / RATE == pytest.approx(after, abs=0.01)
