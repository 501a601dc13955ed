"""Recordings that are not what they should be: named, and no number off by more than it states; clean ones unnamed."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.signal import butter, resample_poly, sosfilt

from benchmarks.trust import noise_of
from jiyuu.circuits.catalogue import circuit
from jiyuu.errors import MeasurementError, SignalError
from jiyuu.measurement.factors import factors_of
from jiyuu.measurement.findings import READ_FROM_CURVE, read_response
from jiyuu.measurement.loopback import less_interface
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.staircase import measure_staircase
from jiyuu.measurement.tone import measure_tone
from jiyuu.prediction.circuit_fit import fit_circuit
from jiyuu.rig.channels import channel_of
from jiyuu.signals.recordings import Recording
from jiyuu.signals.stimuli import noise_stimulus, tones_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.simulation.render import render
from jiyuu.wording.notices import notice_sentence
from tests.trials import some
from tests.truths import Made, Recorded, exact, recorded

RATE = 48_000
LADDER = Made("transistor-ladder", "lowpass-24", 820.0, 2.0)
HEARD = Recorded(LADDER, lambda: sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=2.0), sample_rate_hz=RATE), RATE)


def noisy(record, seed=5, share=1e-3):
    return record + noise_of("white", record.size, share * HEARD.rms, np.random.default_rng(seed))


def silent(from_s, for_s):
    return np.where((from_s <= HEARD.t) & (from_s + for_s > HEARD.t), 0.0, HEARD.clean)


def louder(from_s, by_db):
    return np.where(from_s <= HEARD.t, HEARD.clean * 10 ** (by_db / 20), HEARD.clean)


def shorter(from_s, samples):
    return np.delete(HEARD.clean, np.arange(round(from_s * RATE), round(from_s * RATE) + samples))


CASES = [  # one of each kind first of all, as `some` picks them
    (Fault.CLIPPED, lambda: np.clip(noisy(HEARD.clean), -0.97 * HEARD.peak, 0.97 * HEARD.peak)),
    (Fault.DROPOUT, lambda: noisy(silent(1.4, 0.01))), (Fault.DROPOUT, lambda: noisy(silent(4.0, 0.01))),
    (Fault.GAIN_CHANGED, lambda: noisy(louder(1.5, -1.0))),
    (Fault.CLIPPED, lambda: noisy(np.clip(HEARD.clean, -0.9 * HEARD.peak, 0.9 * HEARD.peak))),
    (Fault.SAMPLES_LOST, lambda: noisy(shorter(1.5, 480))),
    (Fault.STARTED_LATE, lambda: noisy(HEARD.clean)[round(1.2 * RATE) :]),
    (Fault.GAIN_CHANGED, lambda: noisy(louder(4.0, -0.3))),
    (Fault.ENDED_EARLY, lambda: noisy(HEARD.clean)[: round(4.2 * RATE)]),
    (Fault.GAIN_CHANGED, lambda: noisy(louder(2.7, 0.5))),
    (Fault.HUM, lambda: noisy(HEARD.clean + HEARD.hum(50.02, 0.01 * HEARD.rms, 0.4))),
    (Fault.SAMPLES_LOST, lambda: noisy(shorter(2.75, 100))),
]


@pytest.mark.parametrize(("fault", "make"), some(CASES, 3, long=7))
def test_a_fault_is_named_and_what_it_moved_is_not_stated(fault, make):
    response = measure_response(HEARD.stimulus, make(), RATE)
    read = read_response(response)
    assert fault in {notice.fault for notice in read.notices}
    assert all(notice_sentence(notice).endswith(".") for notice in read.notices)
    truth = exact(LADDER, (response.frequency_hz[0], response.frequency_hz[-1]))
    other = read.notices[0].facts.get("db", 0.0) if fault is Fault.GAIN_CHANGED else 0.0
    for name, _ in READ_FROM_CURVE:
        value = getattr(read.reading, name)
        if value is None or name not in truth or name not in read.uncertainty:
            continue
        wrong = abs(value - truth[name])
        if name == "passband_db":
            wrong = min(wrong, abs(value - truth[name] - other))  # either gain is true
        assert wrong < 2.5 * read.uncertainty[name], name


@pytest.mark.long
@pytest.mark.parametrize(("happened", "named"), some([
    (lambda: louder(1.5, -1.0), {Fault.FEWER_PASSAGES}), (lambda: HEARD.clean, set()),
    (lambda: silent(1.4, 0.01), {Fault.FEWER_PASSAGES}), (lambda: shorter(1.5, 480), {Fault.FEWER_PASSAGES}),
], 2, long=4))
def test_nothing_is_read_from_a_stimulus_of_one_sweep_that_no_network_explains(happened, named):
    """No second passage tells what happened in the first."""
    once = HEARD.stimulus[: round(2.9 * RATE)]
    read = read_response(measure_response(once, noisy(happened())[: once.size], RATE))
    assert {notice.fault for notice in read.notices} - {Fault.COMPRESSED} == named
    assert (read.reading.peak_db is None) == bool(named)
    assert not named or "Play the stimulus twice" in notice_sentence(read.notices[-1])


@pytest.mark.parametrize("seed", some(range(3), 1))
def test_a_clean_recording_is_not_complained_of(seed):
    assert not read_response(measure_response(HEARD.stimulus, noisy(HEARD.clean, seed), RATE)).notices


@pytest.mark.parametrize("made", some([
    Made("transistor-ladder", "highpass-12", 120.0, 0.5), Made("state-variable", "bandpass", 1200.0, 1.6),
    Made("state-variable", "lowpass", 60.0, 1.0),
], 1, long=3))
@pytest.mark.parametrize("seed", some([100, 103], 1))
def test_noise_that_is_strong_where_the_sweep_is_faint_is_no_fault(made, seed):
    clean = recorded(made, HEARD.stimulus, RATE, ppm=20.0)
    rms = float(np.sqrt(np.mean(clean[: HEARD.stimulus.size][HEARD.stimulus != 0] ** 2)))
    record = clean + noise_of("pink", clean.size, 1e-3 * rms, np.random.default_rng(seed))
    assert not measure_response(HEARD.stimulus, record, RATE, quickly=True).notices


WIDE = Made("state-variable", "bandpass", 1200.0, 1.6)  # unlike the ladder it lets the whole sweep be heard
RINGING = Made("transistor-ladder", "lowpass-24", 60.0, 3.9)  # and of this there is a ring, like itself at many a lag


@pytest.mark.parametrize("made", some([LADDER, WIDE, RINGING], 1))
@pytest.mark.parametrize(("to_hz", "up", "down"), [(44_100, 147, 160), (96_000, 2, 1)])
def test_another_rate_than_the_header_says_is_named(made, to_hz, up, down):
    record = resample_poly(noisy(recorded(made, HEARD.stimulus, RATE, ppm=20.0)), up, down)
    fast = f"runs {RATE / to_hz:.4g} times as fast .* sample rate was {to_hz} Hz and its header says 48000 Hz"
    with pytest.raises(MeasurementError, match=fast):
        measure_response(HEARD.stimulus, record, RATE)


@pytest.mark.long
@pytest.mark.parametrize("ppm", some([-60.0, 20.0], 1))
def test_a_passage_alone_is_measured_by_its_own_clock(ppm):
    """What a clock does to a sweep is more than a phase; at 60 ppm that alone would leave several times this noise."""
    record = recorded(WIDE, HEARD.stimulus, RATE, ppm=ppm)
    record = record + noise_of("white", record.size, 1e-3 * HEARD.rms, np.random.default_rng(2))
    response = measure_response(HEARD.stimulus, record[round(1.2 * RATE) :], RATE)
    assert response.network is not None
    assert response.network.fit.left < 1.1
    doubt = max(2 * response.clock_offset_ppm.uncertainty, 0.01)
    assert response.clock_offset_ppm.value == pytest.approx(ppm, abs=doubt)
    late_s = 0.0123 - 1.2 / (1 + 1e-6 * ppm)  # cut by the recorder's clock, stated by the player's
    assert response.latency_s.value == pytest.approx(late_s, abs=2 * response.latency_s.uncertainty + 1e-7)


@pytest.mark.long
@pytest.mark.parametrize("clipped", [False, True])
def test_what_swings_too_fast_for_flat_tops_is_clipped_all_the_same(clipped):
    """Over eight kilohertz no three samples in a row stand at the top."""
    made = Made("transistor-ladder", "highpass-24", 9000.0, 1.67)
    record = recorded(made, HEARD.stimulus, RATE, ppm=20.0)
    top = (0.73 if clipped else 1.0) * float(np.abs(record).max())
    record = np.clip(record, -top, top) + np.random.default_rng(1).normal(0, 1e-4 * record.std(), record.size)
    read = read_response(measure_response(HEARD.stimulus, record, RATE))
    assert (Fault.CLIPPED in {notice.fault for notice in read.notices}) == clipped
    truth = exact(made, (20.0, 20_000.0))
    for name in set(read.uncertainty) & set(truth):
        assert abs(getattr(read.reading, name) - truth[name]) < 2.5 * read.uncertainty[name], name


@pytest.mark.long
@pytest.mark.parametrize("cutoff_hz", [1390.0, 9690.0])
def test_where_the_passband_is_clipped_nothing_is_read_from_it(cutoff_hz):
    record = recorded(Made("transistor-ladder", "highpass-12", cutoff_hz, 1.45), HEARD.stimulus, RATE, ppm=-20.0)
    top = 0.8 * float(np.abs(record).max())
    noise = noise_of("white", record.size, 5e-3 * record.std(), np.random.default_rng(3))
    read = read_response(measure_response(HEARD.stimulus, np.clip(record, -top, top) + noise, RATE))
    assert [notice.fault for notice in read.notices] == [Fault.CLIPPED]
    assert read.reading.passband_db is None
    assert read.reading.cutoff_3db_hz is None


@pytest.mark.parametrize(("at_s", "db"), some([(2.15, 0.42), (2.1, 0.42), (2.1, -0.9), (1.3, 0.42), (4.1, -0.9)], 0,
                                                long=2))
def test_a_change_of_gain_beside_the_faint_end_of_a_lowpass_hurts_one_passage(at_s, db):
    """What is faint there must not be drowned by the loud beginning of the same passage."""
    response = measure_response(HEARD.stimulus, noisy(louder(at_s, db), share=1e-4), RATE)
    assert [notice.fault for notice in response.notices] == [Fault.GAIN_CHANGED, Fault.FEWER_PASSAGES]
    assert response.notices[0].facts["db"] == pytest.approx(db, abs=0.02)
    assert response.notices[0].at_s == pytest.approx(at_s, abs=0.1 if abs(at_s - 2.1) > 0.1 else 0.5)  # too faint there
    assert response.network is not None


def test_a_gain_that_changes_as_a_passage_begins_hurts_that_one_only():
    """The moment lies in the first of what is compared, which is neither as before nor as after it."""
    response = measure_response(HEARD.stimulus, noisy(louder(3.06, 0.4)), RATE)
    assert [notice.fault for notice in response.notices] == [Fault.GAIN_CHANGED, Fault.FEWER_PASSAGES]
    assert response.notices[0].facts["db"] == pytest.approx(0.4, abs=0.02)
    assert response.network is not None


@pytest.mark.parametrize("wandering", some([
    lambda: louder(3.2, 0.05), lambda: louder(3.0, -0.03),
    lambda: HEARD.clean * 10 ** (np.linspace(0, 0.14, HEARD.clean.size) / 20),
    lambda: HEARD.clean * 10 ** (np.linspace(0, -0.05, HEARD.clean.size) / 20),
], 2, long=4))
def test_a_gain_that_moves_by_less_than_a_fault_widens_what_is_stated(wandering):
    """As that of a unit that warms up."""
    response = measure_response(HEARD.stimulus, noisy(wandering()), RATE)
    read = read_response(response)
    assert abs(response.wander_db) > 0.01
    assert read.uncertainty["passband_db"] > 0.01  # a hundred times what noise alone would make it
    truth = exact(LADDER, (response.frequency_hz[0], response.frequency_hz[-1]))
    for name, value in truth.items():
        assert abs(getattr(read.reading, name) - value) < 1.5 * read.uncertainty[name], name
    if abs(response.wander_db) > 0.02:
        assert [notice.fault for notice in read.notices] == [Fault.GAIN_CHANGED]
        assert "from one passage to the other" in notice_sentence(read.notices[0])


@pytest.mark.long
def test_where_one_passage_alone_is_explained_a_small_change_of_gain_is_said_and_not_lost_samples():
    response = measure_response(HEARD.stimulus, noisy(louder(1.5, -0.06)), RATE)
    assert [notice.fault for notice in response.notices] == [Fault.GAIN_CHANGED, Fault.FEWER_PASSAGES]
    assert response.notices[0].facts["db"] == pytest.approx(-0.06, abs=0.01)
    assert response.network is not None


def test_of_a_highpass_that_was_recorded_late_the_second_passage_is_found():
    """All that is loud of it lies at the end of the first, which is in the recording too."""
    made = Made("transistor-ladder", "highpass-12", 8888.0, 1.94)
    record = recorded(made, HEARD.stimulus, RATE)[round(0.9 * RATE) :]
    record = record + noise_of("white", record.size, 3e-3 * float(np.std(record)), np.random.default_rng(1))
    response = measure_response(HEARD.stimulus, record, RATE)
    assert Fault.STARTED_LATE in {notice.fault for notice in response.notices}
    truth = exact(made, (20.0, 20_000.0))
    read = read_response(response)
    assert abs(read.reading.cutoff_3db_hz - truth["cutoff_3db_hz"]) < 2.5 * read.uncertainty["cutoff_3db_hz"]


@pytest.mark.long
@pytest.mark.parametrize(("from_s", "samples"), some([(1.6, 7), (4.0, 64)], 1))
def test_samples_lost_of_a_wide_filter_are_named_whichever_passage_they_are_of(from_s, samples):
    record = recorded(WIDE, HEARD.stimulus, RATE, ppm=20.0)
    gone = np.arange(round(from_s * RATE), round(from_s * RATE) + samples)
    record = noisy(np.delete(record, gone))
    response = measure_response(HEARD.stimulus, record, RATE)
    assert Fault.SAMPLES_LOST in {notice.fault for notice in response.notices}
    assert response.network is not None
    assert abs(response.latency_s.value - 0.0123) < response.latency_s.uncertainty


@pytest.mark.parametrize(("level_v", "gain", "withdrawn"), some([
    (1.0, 2.0, True), (0.05, 2.0, False), (0.02, 0.0, False)], 1, long=2))
def test_compression_is_named_and_the_interval_holds_the_small_signal(level_v, gain, withdrawn):
    made = Made("transistor-ladder", "lowpass-24", 1000.0, gain)
    stimulus = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=2.0), sample_rate_hz=RATE)
    played = np.concatenate([stimulus, np.zeros(24_000)])
    output = render(circuit(made.circuit).network(), played, sample_rate_hz=float(RATE), cutoff_hz=1000.0, gain=gain,
                    modes=[made.mode], oversampling=8).output_v[0]
    response = measure_response(stimulus, output + noise_of("white", output.size, 1e-3 * output.std(),
                                                            np.random.default_rng(1)), RATE)
    read = read_response(response)
    assert (Fault.COMPRESSED in {notice.fault for notice in read.notices}) == (level_v > 0.02)
    assert (read.reading.cutoff_3db_hz is None) == withdrawn
    truth = exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    for name in ("cutoff_3db_hz", "peak_db", "q", "passband_db"):
        value = getattr(read.reading, name)
        if value is not None and name in truth:
            assert abs(value - truth[name]) < 2.5 * read.uncertainty[name], name


@pytest.mark.parametrize(("mode", "gain"), some([("highpass-24", 3.5), ("highpass-24", 2.0), ("highpass-12", 3.5)], 1,
                                                long=3))
def test_where_faint_parts_tell_nothing_of_the_passband_it_is_read_where_it_stands(mode, gain):
    """All but the slope of a highpass is loud; what fits that slope alone may have its passband anywhere."""
    made = Made("transistor-ladder", mode, 300.0, gain)
    stimulus = sweep_stimulus(SweepPlan(level_v=0.005 if gain > 3 else 0.05, sweep_s=2.0), sample_rate_hz=RATE)
    output = render(circuit(made.circuit).network(), np.concatenate([stimulus, np.zeros(24_000)]),
                    sample_rate_hz=float(RATE), cutoff_hz=300.0, gain=gain, modes=[mode], oversampling=8).output_v[0]
    read = read_response(measure_response(stimulus, output + noise_of(
        "white", output.size, 3e-4 * output.std(), np.random.default_rng(1)), RATE))
    truth = exact(made, (11.0, 21_000.0))
    for name, most in (("passband_db", 0.05), ("cutoff_3db_hz", 2.0), ("peak_db", 0.5)):
        value = getattr(read.reading, name)
        if name in read.uncertainty and value is not None:
            assert read.uncertainty[name] < most
            assert abs(value - truth[name]) < 2.5 * read.uncertainty[name], name
    assert "passband_db" in read.uncertainty


@pytest.mark.parametrize(("gain", "said"), some([(0.0, "where it is loudest"), (3.0, "at the peak")], 1, long=2))
def test_a_peak_is_spoken_of_where_there_is_one(gain, said):
    made = Made("transistor-ladder", "highpass-24", 300.0, gain)
    clean = recorded(made, HEARD.stimulus, RATE, ppm=20.0)
    pressed = clean + 2e-2 * np.tanh(clean / clean.std()) * clean.std()
    read = read_response(measure_response(HEARD.stimulus, noisy(pressed, share=1e-5), RATE))
    (notice,) = (notice for notice in read.notices if notice.fault is Fault.COMPRESSED)
    assert said in notice_sentence(notice)


@pytest.mark.long
def test_an_interface_recorded_alone_is_divided_out():
    rolls_off = butter(1, 12.0, "highpass", fs=RATE, output="sos")
    wire = noisy(sosfilt(rolls_off, np.concatenate([HEARD.stimulus, np.zeros(RATE)])), 8)
    through = measure_response(HEARD.stimulus, noisy(sosfilt(rolls_off, HEARD.clean)), RATE)
    assert Fault.INTERFACE_HIGHPASS in {notice.fault for notice in read_response(through).notices}
    response = less_interface(through, measure_response(HEARD.stimulus, wire, RATE))
    read = read_response(response)
    truth = exact(LADDER, (response.frequency_hz[0], response.frequency_hz[-1]))
    for name in ("passband_db", "cutoff_3db_hz", "peak_db", "q"):
        assert abs(getattr(read.reading, name) - truth[name]) < 2.5 * read.uncertainty[name], name
    assert response.latency_s.value == pytest.approx(0.0123, abs=1e-6)


@pytest.mark.long
@pytest.mark.parametrize(("made", "corner_hz"), some([
    (Made("transistor-ladder", "highpass-24", 55.3, 0.0245), 16.4),
    (Made("transistor-ladder", "bandpass-24", 34.3, 2.89), 18.6),
], 1, long=2))
def test_a_capacitor_among_the_filters_own_poles_is_found_and_a_loopback_asked_for(made, corner_hz):
    rolls_off = butter(1, corner_hz, "highpass", fs=RATE, output="sos")
    clean = sosfilt(rolls_off, recorded(made, HEARD.stimulus, RATE, ppm=60.0))
    record = clean + noise_of("pink", clean.size, 7e-4 * clean.std(), np.random.default_rng(4))
    read = read_response(measure_response(HEARD.stimulus, record, RATE))
    (notice,) = (notice for notice in read.notices if notice.fault is Fault.INTERFACE_HIGHPASS)
    assert notice.facts["hz"] == pytest.approx(corner_hz, rel=0.03)
    assert "give that as loopback" in notice_sentence(notice)
    truth = exact(made, (20.0, 20_000.0))
    for name in set(read.uncertainty) & set(truth):
        assert abs(getattr(read.reading, name) - truth[name]) < 2.5 * read.uncertainty[name], name


def test_poles_that_zeros_take_away_are_nobodys_capacitor():
    """A network may be told with more of both than it has: a pole at rest under a zero at rest, and a pair beside."""
    response = measure_response(HEARD.stimulus, noisy(HEARD.clean), RATE)
    assert response.network is not None
    fit = response.network.fit
    poles, zeros = np.append(fit.poles, [-857.1, -1e-6]), np.append(fit.zeros, -857.0)
    order = replace(fit.order, poles=poles.size, zeros=zeros.size, at_rest=fit.order.at_rest + 1)
    values = np.concatenate([np.log(factors_of(poles / fit.unit)), factors_of(zeros / fit.unit), fit.values[-2:]])
    more = replace(fit, order=order, values=values, spread=np.zeros((values.size, values.size)))
    hertz = response.frequency_hz
    assert_allclose(more.at(hertz), fit.at(hertz), rtol=2e-4)
    read = read_response(replace(response, network=replace(response.network, fit=more)))
    assert read.notices == read_response(response).notices
    assert read.uncertainty["passband_db"] < 0.05


@pytest.mark.parametrize(("humming", "faults"), some([(False, set()), (True, {Fault.HUM})], 1, long=2))
def test_a_ring_at_the_pitch_of_the_mains_is_no_hum(humming, faults):
    """It is not there before anything was played."""
    made = Made("transistor-ladder", "lowpass-24", 60.0, 3.9)
    record = recorded(made, HEARD.stimulus, RATE, ppm=20.0)
    record = record + noise_of("white", record.size, 1e-3 * record.std(), np.random.default_rng(1))
    hum = 3e-2 * float(record.std()) * np.sin(2 * np.pi * 50.02 * np.arange(record.size) / RATE)
    response = measure_response(HEARD.stimulus, record + humming * hum, RATE)
    assert {notice.fault for notice in response.notices} == faults
    assert humming or response.network is not None


def test_the_channel_is_chosen_by_the_stimulus_and_not_by_loudness():
    wire, hum = np.concatenate([HEARD.stimulus, np.zeros(RATE)]), np.sin(2 * np.pi * 50 * HEARD.t)
    taken, why = channel_of(Recording(np.stack([noisy(wire), noisy(HEARD.clean)]), RATE), HEARD.stimulus)
    assert why.facts["taken"] == "right"
    assert np.std(taken) < np.std(wire)
    beside_hum = np.stack([noisy(HEARD.clean), 3 * hum + noisy(0 * HEARD.clean)])
    taken, why = channel_of(Recording(beside_hum, RATE), HEARD.stimulus)
    assert why.facts["taken"] == "left"
    assert channel_of(Recording(np.stack([wire, wire]), RATE), HEARD.stimulus)[1] is None
    assert channel_of(Recording(np.stack([wire, hum]), RATE), HEARD.stimulus, "right")[1] is None
    with pytest.raises(SignalError, match="mono"):
        channel_of(Recording(wire[np.newaxis], RATE), HEARD.stimulus, "right")


def stairs(partials=((1, 1.0),), sway=None, jump=None):
    pieces = []
    for step in range(5):
        t = np.arange(round(0.8 * RATE)) / RATE
        hertz = np.full(t.size, 130.8 * 2.0**step)
        if sway:
            hertz = hertz * 2 ** (sway[1] / 1200 * np.sin(2 * np.pi * sway[0] * t))
        if jump == step:
            hertz[t.size // 3 : t.size // 2 + t.size // 8] *= 2
        turn = 2 * np.pi * np.cumsum(hertz) / RATE
        pieces += [sum(size * np.sin(n * turn + n) for n, size in partials), np.zeros(round(0.05 * RATE))]
    wave = np.concatenate(pieces)
    return wave + np.random.default_rng(1).normal(0, 1e-3, wave.size)


@pytest.mark.parametrize(("fault", "make"), [
    (None, stairs), (Fault.OCTAVE_UNCERTAIN, lambda: stairs(((1, 0.3), (2, 1.0), (3, 0.4)))),
    (Fault.OCTAVE_UNCERTAIN, lambda: stairs(((1, 0.2), (2, 0.3), (3, 1.0)))),
    (Fault.OCTAVE_UNCERTAIN, lambda: stairs(((2, 1.0), (3, 0.7), (4, 0.3)))),
    (Fault.VIBRATO, lambda: stairs(sway=(5.5, 15.0))), (Fault.VIBRATO, lambda: stairs(sway=(6.0, 30.0))),
    (Fault.OCTAVE_JUMP, lambda: stairs(jump=2)), (Fault.CLIPPED, lambda: np.clip(stairs(), -0.9, 0.9)),
])
def test_a_staircase_is_read_at_its_fundamental_whatever_sounds(fault, make):
    found = measure_staircase(make(), RATE, [0, 1, 2, 3, 4])
    assert {notice.fault for notice in found.notices} == ({fault} if fault else set())
    for volts, tone in zip(found.volts, found.tones, strict=True):
        cents = 1200 * np.log2(tone.frequency_hz.value / (130.8 * 2.0**volts))
        assert abs(cents) < 1731.3 * 1.5 * tone.frequency_hz.uncertainty / tone.frequency_hz.value + 0.02
    if fault is Fault.VIBRATO:
        assert found.notices[0].facts["rate_hz"] == pytest.approx(5.75, abs=0.4)


def test_the_harmonic_may_be_told():
    found = measure_staircase(stairs(((3, 1.0),)), RATE, [0, 1, 2, 3, 4], harmonic=3)
    assert found.tones[0].frequency_hz.value == pytest.approx(130.8, rel=1e-5)


@pytest.mark.long
def test_a_tone_in_pink_noise_states_what_the_noise_beside_it_does():
    t = np.arange(2 * RATE) / RATE
    held = []
    for seed in range(20):
        noise = noise_of("pink", t.size, 0.02, np.random.default_rng(seed))
        found = measure_tone(np.sin(2 * np.pi * 220.3 * t) + noise, RATE).frequency_hz
        held.append(abs(found.value - 220.3) <= found.uncertainty)
    assert sum(held) >= 17


@pytest.mark.long
def test_the_pole_of_a_notch_is_found_and_not_the_knob_read_back():
    made = Made("state-variable", "notch", 900.0, 0.0)
    response = measure_response(HEARD.stimulus, noisy(recorded(made, HEARD.stimulus, RATE)), RATE)
    for knob_hz in (930.0, 870.0, 700.0, 1200.0):
        fit = fit_circuit(response, circuit("state-variable").network(), "notch", cutoff_hz=knob_hz, gain=0.0)
        assert abs(fit.pole_hz.value - 900.0) < 2 * fit.pole_hz.uncertainty


@pytest.mark.long
@pytest.mark.parametrize("played", some([
    lambda: noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=2.0, pink=True),
    lambda: tones_stimulus(level_v=1.0, sample_rate_hz=RATE, per_octave=6),
], 1, long=2))
def test_clipped_noise_and_tones_state_no_number(played):
    stimulus = played()
    clean = recorded(LADDER, stimulus, RATE)
    level = 0.8 * float(np.abs(clean).max())
    read = read_response(measure_response(stimulus, np.clip(clean, -level, level), RATE))
    assert Fault.CLIPPED in {notice.fault for notice in read.notices}
    assert all(getattr(read.reading, name) is None for name, _ in READ_FROM_CURVE)
