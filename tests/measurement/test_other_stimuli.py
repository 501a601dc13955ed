"""Response from noise and from stepped tones: late, inverted, from another clock, with noise on top."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import maximum_filter1d
from scipy.signal import butter, sosfilt

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement.alignment import find_passages
from jiyuu.measurement.curve_reading import Kind
from jiyuu.measurement.estimate import FittedNetwork
from jiyuu.measurement.factors import factors_of
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.network_fit import Order
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.tones_found import tones_of
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.wording.notices import notice_sentence
from tests.measurement.test_response import RATE, through
from tests.trials import some
from tests.truths import Made, Recorded, exact, recorded

CASES = [("transistor-ladder", "lowpass-24", 820.0, 2.0), ("state-variable", "bandpass", 1200.0, 1.6),
         ("state-variable", "highpass", 300.0, 1.5)]


def stimulus_of(kind):
    if kind == "tones":
        return tones_stimulus(level_v=1.0, sample_rate_hz=RATE, shortest_s=0.1, periods=10, from_hz=25.0)
    return noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0, pink=kind == "pink")


@pytest.mark.parametrize(("kind", "circuit_id", "mode", "cutoff_hz", "gain"), some([
    (kind, *case) for i, case in enumerate(CASES) for kind in (("pink", "tones") if i else ("pink", "white"))
], 1, long=3))
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


@pytest.mark.long
@pytest.mark.parametrize(("made", "rate", "ppm", "pink"), some([
    (Made("transistor-ladder", "lowpass-24", 4294.0, 0.61), 44_100, -61.0, True),
    (Made("transistor-ladder", "highpass-12", 5436.0, 0.57), 48_000, 75.0, False),  # its clock undoes all of it
    (Made("state-variable", "highpass", 9707.0, 0.96), 48_000, 49.0, True),
], 1))
def test_noise_is_read_up_to_the_ends_of_its_band_whatever_the_clock(made, rate, ppm, pink):
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=rate, duration_s=4.0, pink=pink)
    clean = recorded(made, stimulus, rate, ppm=ppm)
    found = measure_response(stimulus, clean + np.random.default_rng(2).normal(0, 6e-4 * clean.std(), clean.size), rate)
    assert not found.notices
    off = np.abs(found.gain / made.at(found.frequency_hz) - 1) * np.abs(made.at(found.frequency_hz))
    assert (off < 2.5 * found.deviation + 1e-4).mean() > 0.9
    for end in (slice(0, 24), slice(-24, None)):  # windows there reach beyond the band
        assert off[end].max() < 6 * found.deviation[end].max()
    assert found.clock_offset_ppm.value == pytest.approx(ppm, abs=0.01)
    read, truth = read_response(found), exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    for name in ("cutoff_3db_hz", "slope_db_per_octave", "first_octave_drop_db"):
        assert abs(getattr(read.reading, name) - truth[name]) < 2 * read.uncertainty[name], name


@pytest.mark.parametrize(("made", "ppm"), some([
    (Made("transistor-ladder", "highpass-24", 3236.0, 1.67), -1.6),
    (Made("transistor-ladder", "bandpass-24", 3301.0, 3.6), -62.0),  # by which next to nothing of it adds up
], 0, long=2))
def test_a_single_passage_of_noise_is_measured_by_its_own_clock(made, ppm):
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0, pink=True)
    record = recorded(made, stimulus, RATE, ppm=ppm)[round(1.2 * RATE) :]
    record = record + np.random.default_rng(2).normal(0, 3e-3 * record.std(), record.size)
    found = measure_response(stimulus, record, RATE)
    assert [notice.fault for notice in found.notices] == [Fault.STARTED_LATE, Fault.FEWER_PASSAGES]
    assert found.network is not None
    assert abs(found.clock_offset_ppm.value - ppm) < 1.5 * found.clock_offset_ppm.uncertainty
    assert found.clock_offset_ppm.uncertainty < 0.1
    assert abs(found.latency_s.value - (0.0123 - 1.2 / (1 + 1e-6 * ppm))) < 2 * found.latency_s.uncertainty
    read, truth = read_response(found), exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    for name in set(read.uncertainty) & set(truth):
        assert abs(getattr(read.reading, name) - truth[name]) < 2.5 * read.uncertainty[name], name


@pytest.mark.parametrize(("made", "pink"), some([
    (Made("transistor-ladder", "highpass-24", 500.0, 1.0), True),
    (Made("state-variable", "lowpass", 400.0, 1.7), False),
    (Made("transistor-ladder", "lowpass-24", 900.0, 2.0), True),
    (Made("state-variable", "bandpass", 1700.0, 0.9), False),
], 0, long=4))
def test_what_happens_within_the_only_passage_of_noise_is_named(made, pink):
    """Nothing but what its own gains make of the stimulus tells it: they are a mean of before and after."""
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0, pink=pink)
    clean = recorded(made, stimulus, RATE)[: round(2.8 * RATE)]
    noise = np.random.default_rng(4).normal(0, 1e-3 * clean.std(), clean.size)
    late = np.arange(clean.size) > 1.3 * RATE
    gap = late & (np.arange(clean.size) < 1.31 * RATE)
    fewer = clean[~(late & (np.arange(clean.size) < round(1.3 * RATE) + 100))]
    for fault, record in ((None, clean), (Fault.GAIN_CHANGED, clean * np.where(late, 10 ** (0.3 / 20), 1.0)),
                          (Fault.DROPOUT, np.where(gap, 0.0, clean)), (Fault.SAMPLES_LOST, fewer)):
        read = read_response(measure_response(stimulus, record + noise[: record.size], RATE))
        named = [notice for notice in read.notices if notice.fault not in (Fault.ENDED_EARLY, Fault.FEWER_PASSAGES)]
        assert [notice.fault for notice in named] == ([] if fault is None else [fault])
        assert (read.reading.passband_db is None) == (fault is not None)
        assert all(abs(notice.at_s - 1.3) < 0.1 for notice in named)
        assert ("no other passage" in " ".join(map(notice_sentence, named))) == (fault is Fault.GAIN_CHANGED)


@pytest.mark.long
def test_what_one_passage_of_noise_tells_no_clock_for_is_not_stated():
    """Under a hundred hertz a few millionths turn nothing; what lies far above may be anywhere."""
    made = Made("state-variable", "lowpass", 100.0, 1.0)
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0)
    record = recorded(made, stimulus, RATE, ppm=20.0)[round(1.2 * RATE) :]
    record = record + np.random.default_rng(2).normal(0, 0.01 * record.std(), record.size)
    found = measure_response(stimulus, record, RATE)
    read, truth = read_response(found), exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    (few,) = (notice for notice in read.notices if notice.fault is Fault.FEWER_PASSAGES)
    assert 200 < few.facts["blurred_hz"] < 400
    assert "record two whole passages" in notice_sentence(few)
    assert read.reading.slope_db_per_octave is None
    assert read.reading.cutoff_3db_hz == pytest.approx(truth["cutoff_3db_hz"],
                                                       abs=2.5 * read.uncertainty["cutoff_3db_hz"])


def test_noise_through_what_rings_on_and_on_is_refused_with_what_to_do():
    made = Made("transistor-ladder", "lowpass-24", 37.7, 3.935)
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0)
    record = recorded(made, stimulus, RATE, ppm=-3.0)
    record = record + np.random.default_rng(2).normal(0, 1e-3 * record.std(), record.size)
    with pytest.raises(MeasurementError, match=r"still rings .* measure it with a sweep"):
        measure_response(stimulus, record, RATE)


@pytest.mark.long
def test_a_recording_that_ends_with_its_noise_rings_no_longer_than_it():
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0)
    passages = find_passages(stimulus)
    record = recorded(Made("state-variable", "bandpass", 1200.0, 1.2), stimulus, RATE, ppm=-40.0)
    found = measure_response(stimulus, record[: passages.start + passages.passage_v.size + 700], RATE)
    assert found.network is not None
    assert Fault.ENDED_EARLY in {notice.fault for notice in found.notices}


@pytest.mark.long
def test_samples_lost_of_low_noise_are_no_clock():
    """Of what is all under a hundred hertz they turn no phase by much."""
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0)
    record = recorded(Made("state-variable", "lowpass", 79.2, 1.22), stimulus, RATE, ppm=74.0)
    record = np.delete(record, np.arange(round(6.46 * RATE), round(6.46 * RATE) + 68))
    record = record + np.random.default_rng(2).normal(0, 1e-4 * record.std(), record.size)
    read = read_response(measure_response(stimulus, record, RATE))
    assert Fault.SAMPLES_LOST in {notice.fault for notice in read.notices}
    assert not read.uncertainty


@pytest.mark.long
def test_a_gain_that_changes_between_passages_while_it_rings_hurts_one_of_them():
    """A narrow band has to begin to ring: its first tenths are no second change."""
    made = Made("transistor-ladder", "bandpass-24", 107.0, 3.75)
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0)
    clean = recorded(made, stimulus, RATE, ppm=33.0)
    changed = np.where(np.arange(clean.size) > 2.9 * RATE, 10 ** (0.35 / 20) * clean, clean)
    found = measure_response(stimulus, changed + np.random.default_rng(2).normal(0, 4e-3 * clean.std(), clean.size),
                             RATE)
    assert [notice.fault for notice in found.notices] == [Fault.GAIN_CHANGED, Fault.FEWER_PASSAGES]
    assert found.notices[0].facts["db"] == pytest.approx(0.35, abs=0.02)


@pytest.mark.long
def test_a_bandpass_that_comes_to_a_level_far_below_it_stays_one():
    """Its zeros found at 2 Hz instead of 0, as behind a coupling: nothing was heard of what it comes to there."""
    made = Made("transistor-ladder", "bandpass-24", 190.0, 1.33)
    stimulus = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=4.0)
    clean = recorded(made, stimulus, RATE)
    found = measure_response(stimulus, clean + np.random.default_rng(1).normal(0, 2e-4 * clean.std(), clean.size), RATE)
    fit = found.network.fit
    assert fit.order == Order(4, 0, 2)
    zeros = 2 * np.pi * np.array([1.0 + 1.8j, 1.0 - 1.8j]) / fit.unit
    values = np.concatenate([fit.values[:4], factors_of(zeros), fit.values[4:]])
    moved = replace(fit, order=Order(4, 2, 0), values=values, spread=np.zeros((values.size, 1)))
    drawn = moved.drawn(len(found.network.drawn), np.random.default_rng(0))
    read = read_response(replace(found, network=FittedNetwork(moved, drawn)))
    assert read.reading.kind is Kind.BANDPASS
    truth = exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    for name in ("peak_hz", "q", "high_3db_hz"):
        assert getattr(read.reading, name) == pytest.approx(truth[name], rel=5e-4)


WIDE = Made("state-variable", "notch", 1110.0, 0.1)
HEARD = Recorded(WIDE, lambda: noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0, pink=False), RATE)


@pytest.mark.parametrize(("fault", "make"), some([
    (Fault.CLIPPED, lambda: np.clip(HEARD.clean, -0.8 * HEARD.peak, 0.8 * HEARD.peak)),  # for a sample at a time
    (None, lambda: HEARD.clean), (None, lambda: np.tanh(0.5 * HEARD.clean / HEARD.peak)),
    # Of a recorder with an offset.
    (Fault.DROPOUT, lambda: np.where((HEARD.t > 3.3) & (HEARD.t < 3.317), 0.0, HEARD.clean + 0.2)),
    (Fault.SAMPLES_LOST, lambda: np.delete(HEARD.clean, np.arange(round(2.49 * RATE), round(2.49 * RATE) + 103))),
], 1, long=5))
def test_what_is_wrong_with_a_recording_of_noise_is_named_and_what_it_moves_is_not_stated(fault, make):
    record = make()
    noise = np.random.default_rng(3).normal(0, 1e-4 * HEARD.rms, record.size)
    found = measure_response(HEARD.stimulus, record + noise, RATE)
    named = {notice.fault for notice in found.notices}
    assert fault in named if fault else not named
    assert Fault.GAIN_CHANGED not in named
    read = read_response(found)
    assert bool(read.uncertainty) == (fault in (None, Fault.DROPOUT))  # of which one passage is whole
    if fault is Fault.DROPOUT:
        assert abs(read.reading.notch_hz - 1110.0) < 2 * read.uncertainty["notch_hz"]


PINK = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0)


def with_noise(record, share):
    return record + np.random.default_rng(6).normal(0, share * record.std(), record.size)


def pressed(record, share, follows_s):
    """Turned down by that share of its loudness, which is followed so slowly; at once: a stage bent by its square."""
    if not follows_s:
        return np.tanh(share * record / np.abs(record).max()) / share * np.abs(record).max()
    followed = sosfilt(butter(1, 1 / (2 * np.pi * follows_s), fs=RATE, output="sos"), record**2)
    loudness = np.sqrt(np.maximum(followed, 0.0))
    return record * (1 - share * loudness / loudness.max())


@pytest.mark.parametrize(("made", "share", "follows_s"), some([
    (Made("state-variable", "highpass", 540.0, 1.85), 0.26, 0.0),
    (Made("diode-ladder", "lowpass-24", 120.0, 11.0), 0.06, 0.05),
    (Made("transistor-ladder", "bandpass-24", 170.0, 0.3), 0.0, 0.0),
    (Made("state-variable", "bandpass", 90.0, 0.7), 0.2, 0.2),
    (Made("state-variable", "lowpass", 800.0, 1.2), 0.0, 0.0),
    (Made("state-variable", "notch", 3200.0, 0.6), 0.08, 0.1),
    (Made("transistor-ladder", "lowpass-24", 1900.0, 2.0), 0.6, 0.0),
], 1, long=7))
def test_what_is_softer_where_noise_is_louder_is_pressed(made, share, follows_s):
    """Level and peak of a steady noise do not tell it; that it is now louder and now softer by itself does."""
    clean = recorded(made, PINK, RATE, ppm=20.0)
    record = pressed(clean, share, follows_s) if share else clean
    found = measure_response(PINK, with_noise(record, 3e-4), RATE)
    lost_db = -20 * np.log10(np.abs(np.vdot(clean, record)) / np.vdot(clean, clean))
    assert 0.5 * lost_db < found.pressed_db < 2 * lost_db if share else found.pressed_db == 0
    read, truth = read_response(found), exact(made, (found.frequency_hz[0], found.frequency_hz[-1]))
    for name in ("passband_db", "cutoff_3db_hz", "notch_hz"):
        if name in truth and name in read.uncertainty:
            assert abs(getattr(read.reading, name) - truth[name]) < 1.5 * read.uncertainty[name], name
    named = {notice.fault for notice in read.notices}
    assert Fault.COMPRESSED in named if lost_db > 0.1 else Fault.COMPRESSED not in named or lost_db > 0.02


@pytest.mark.parametrize("hurt", some([
    lambda record: np.concatenate([record[:200_000], record[199_939:]]),  # 61 samples come twice in the second passage
    lambda record: np.concatenate([record[:60_000], record[59_998:]]),
    lambda record: np.delete(record, np.arange(220_000, 220_180)),
], 1, long=3))
def test_samples_lost_or_doubled_in_one_of_two_passages_of_noise_are_named(hurt):
    made = Made("diode-ladder", "lowpass-24", 165.0, 7.5)
    record = hurt(recorded(made, PINK, RATE, ppm=20.0))
    found = measure_response(PINK, with_noise(record, 2e-3), RATE)
    assert Fault.SAMPLES_LOST in {notice.fault for notice in found.notices}


@pytest.mark.parametrize(("db", "for_s"), some([(-3.5, 0.1), (0.4, 0.3), (-0.5, 0.25)], 0, long=3))
def test_a_gain_of_noise_that_changes_and_comes_back_widens_what_is_stated(db, for_s):
    made = Made("transistor-ladder", "highpass-24", 165.0, 2.2)
    record = recorded(made, PINK, RATE, ppm=20.0)
    begins = round(1.3 * RATE)
    record[begins : begins + round(for_s * RATE)] *= 10 ** (db / 20)
    read = read_response(measure_response(PINK, with_noise(record, 3e-4), RATE))
    named = {notice.fault for notice in read.notices}
    assert not read.uncertainty or abs(read.reading.passband_db) < 1.2 * read.uncertainty["passband_db"]
    assert Fault.GAIN_CHANGED in named or abs(read.reading.passband_db) < 0.03


@pytest.mark.long
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
        measure_response(stimulus, stimulus[: stimulus.size // 3 if kind == "pink" else 3 * RATE], RATE)


@pytest.mark.parametrize(("make", "message"), [
    (lambda: noise_stimulus(level_v=1.0, sample_rate_hz=RATE, duration_s=0.1), "at least 0.5 s"),
    (lambda: tones_stimulus(level_v=1.0, sample_rate_hz=RATE, to_hz=30_000.0), "do not fit"),
])
def test_stimuli_that_cannot_be(make, message):
    with pytest.raises(SignalError, match=message):
        make()


FAINT = Made("transistor-ladder", "lowpass-24", 820.0, 2.0)  # its last tones lie 110 dB under the first


def held(made, response):
    """Whether every reading and the latency are the filter's own within what is stated."""
    read = read_response(response)
    truth = exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    assert {"cutoff_3db_hz", "peak_db", "passband_db"} <= read.uncertainty.keys()
    late = response.latency_s
    return abs(late.value - 0.0123) < 1.5 * late.uncertainty and all(
        abs(getattr(read.reading, name) - truth[name]) < 1.5 * stated for name, stated in read.uncertainty.items()
        if name in truth)


@pytest.mark.long
@pytest.mark.parametrize("noise_steps", some([0.0, 0.3, 3.0], 1))
def test_tones_under_a_recorders_step_are_known_no_better_than_that(noise_steps):
    """Rounded, what is fainter than a step is softer than it was, or gone."""
    stimulus = stimulus_of("tones")
    clean = recorded(FAINT, stimulus, RATE, delay_s=0.0123, ppm=20.0)
    step = 2 * np.abs(clean).max() / 2**15
    noise = np.random.default_rng(1).normal(0, noise_steps * step, clean.size) if noise_steps else 0.0
    response = measure_response(stimulus, np.round((clean + noise) / step) * step, RATE)
    assert not response.notices
    assert held(FAINT, response)


@pytest.mark.long
def test_tones_that_a_gate_took_away_are_named_and_left_out():
    stimulus = stimulus_of("tones")
    clean = recorded(FAINT, stimulus, RATE, delay_s=0.0123, ppm=20.0)
    record = clean + np.random.default_rng(1).normal(0, 1e-4 * clean.std(), clean.size)
    level = maximum_filter1d(np.abs(clean), round(0.1 * RATE))
    response = measure_response(stimulus, np.where(level > 3e-3 * level.max(), record, 0.0), RATE)
    (notice,) = response.notices
    assert notice.fault is Fault.DROPOUT
    assert response.frequency_hz[-1] < 5000
    assert held(FAINT, response)
    with pytest.raises(MeasurementError, match="take the gate out"):
        measure_response(stimulus, np.where(level > 0.8 * level.max(), record, 0.0), RATE)
