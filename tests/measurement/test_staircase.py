"""Steps found in recordings of staircases, with everything that happens to such recordings."""

import numpy as np
import pytest

from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault
from jiyuu.measurement.staircase import measure_staircase
from jiyuu.measurement.steady_pieces import Piece, find_pieces
from jiyuu.measurement.step_lines import on_a_line
from jiyuu.measurement.step_pitch import without_vibrato
from jiyuu.measurement.step_tone import StepTone, step_tone
from jiyuu.measurement.tone_faults import read_tone
from jiyuu.measurement.uncertain import Uncertain
from tests.staircase import Staircase, drawn_staircase
from tests.trials import some

RATE = 48_000.0
OCTAVES = [32.7 * 2**i for i in range(9)]
VOLTS = list(range(9))


def errors(staircase, volts):
    """Cents between what was found and what was played, and what was found."""
    record = staircase.recording()
    found = measure_staircase(record, staircase.rate, volts)
    assert len(found.tones) == len(staircase.frequency_hz)
    return staircase.errors_cents(found), found


@pytest.mark.parametrize("how", some([
    {}, {"glide_s": 0.02}, {"glide_s": 0.06, "step_s": 1.0}, {"portamento_s": 0.2}, {"gap_s": 0.3}, {"clicks": 30},
    {"noise_db": -20.0}, {"noise_db": -30.0, "gap_s": 0.3}, {"drift_cents_per_s": 5.0},
    {"level_v": [5, 3, 2, 1, 0.5, 0.3, 0.2, 0.1, 0.1]}, {"fade_db": -12.0}, {"step_s": 0.3}, {"lead_s": 0.0},
    {"dropout": ((3, 0.05), (6, 0.2))}, {"harmonics": (0.5, 0.4, 0.3)}, {"dc_v": 4.0},
    {"glide_s": 0.03, "clicks": 20, "drift_cents_per_s": 3.0, "fade_db": 6.0, "noise_db": -45.0},
], 3, long=9), ids=lambda how: "-".join(how) or "plain")
def test_frequency_of_every_step(how):
    off, _ = errors(Staircase(OCTAVES, **how), VOLTS)
    assert np.abs(off).max() < 0.3


@pytest.mark.parametrize("seed", some(range(14), 2, long=3))
def test_everything_at_once_whatever_the_draw(seed):
    off, _ = errors(*drawn_staircase(seed))
    assert np.abs(off).max() < 0.3


@pytest.mark.long
def test_fine_steps_falling_steps_and_another_rate():
    semitones = [110 * 2 ** (i / 12) for i in range(25)]
    assert np.abs(errors(Staircase(semitones), (np.arange(25) / 12).tolist())[0]).max() < 0.1
    assert np.abs(errors(Staircase(OCTAVES[::-1], glide_s=0.03), VOLTS[::-1])[0]).max() < 0.3
    fast = Staircase(OCTAVES, rate=96_000.0)
    assert np.abs(errors(fast, VOLTS)[0]).max() < 0.3


def test_stated_uncertainty_holds_the_truth():
    """In plain noise the stated 95 % hold."""
    inside = total = 0
    for seed in some(range(12), 5):
        staircase = Staircase(OCTAVES[1:7], noise_db=-20.0, seed=seed)
        off, found = errors(staircase, list(range(6)))
        doubt = [1731 * t.frequency_hz.uncertainty / t.frequency_hz.value for t in found.tones]
        inside += int(np.sum(np.abs(off) <= doubt))
        total += off.size
    assert 0.88 <= inside / total <= 1.0


def test_level_does_not_suffer_from_drift():
    """20 cents a second over a step turn a kilohertz by many turns; the level must not notice."""
    _, found = errors(Staircase([1000.0, 2000.0, 4000.0], drift_cents_per_s=20.0, step_s=1.5), [0, 1, 2])
    assert [t.amplitude_peak_v for t in found.tones] == pytest.approx([1, 1, 1], rel=0.003)
    assert [t.drift_cents_per_s for t in found.tones] == pytest.approx([20, 20, 20], abs=0.5)


def test_settling_is_counted_from_the_jump():
    """An exponential glide of an octave is within 10 cents after tau·ln 120, here 96 ms; seen from a tenth of the way
    on, 94 ms."""
    _, found = errors(Staircase([220.0, 440.0, 880.0, 1760.0], glide_s=0.02), [0, 1, 2, 3])
    assert [t.settled_s for t in found.tones[1:]] == pytest.approx([0.094] * 3, abs=0.012)


@pytest.mark.parametrize(("kept", "missing"), [
    ([0, 1, 2, 3, 5, 6, 7, 8], (4.0,)), ([0, 1, 2, 5, 6, 7, 8], (3.0, 4.0)), ([0, 2, 3, 4, 5, 7, 8], (1.0, 6.0)),
])
def test_missing_inside_is_certain(kept, missing):
    found = measure_staircase(Staircase([OCTAVES[i] for i in kept]).recording(), RATE, VOLTS)
    assert found.missing_volts == missing
    assert found.volts == tuple(map(float, kept))


def test_a_silent_step_is_missing_at_its_place():
    found = measure_staircase(Staircase(OCTAVES, silent=(5,)).recording(), RATE, VOLTS)
    assert found.missing_volts == (5.0,)


@pytest.mark.parametrize("kept", [[1, 2, 3, 4, 5, 6, 7, 8], [0, 1, 2, 3, 4, 5, 6, 7], [0, 2]])
def test_missing_at_an_end_is_not_guessed(kept):
    with pytest.raises(MeasurementError, match="steps were found, but 9 volts given"):
        measure_staircase(Staircase([OCTAVES[i] for i in kept]).recording(), RATE, VOLTS)


@pytest.mark.long
def test_too_many_and_shifted_are_said():
    with pytest.raises(MeasurementError, match="10 steps were found"):
        measure_staircase(Staircase([*OCTAVES[:3], 150.0, *OCTAVES[3:]]).recording(), RATE, VOLTS)
    with pytest.raises(MeasurementError, match="10 steps were found"):  # played twice, with a pause
        measure_staircase(Staircase([*OCTAVES[:4], OCTAVES[3], *OCTAVES[4:]], gap_s=0.2).recording(), RATE, VOLTS)
    with pytest.raises(MeasurementError, match="one step is too many and another missing"):
        measure_staircase(Staircase([*OCTAVES[:3], *OCTAVES[4:], OCTAVES[8] * 1.9]).recording(), RATE, VOLTS)


def test_a_dropout_is_no_second_step_and_is_said():
    found = measure_staircase(Staircase(OCTAVES, dropout=((2, 0.3), (6, 0.2))).recording(), RATE, VOLTS)
    assert len(found.tones) == 9
    assert sum("dropout" in remark for remark in found.remarks) == 2


def test_a_unit_that_stops_rising_is_still_its_steps():
    """At the end of its range two volts give nearly the same pitch: that is what is to be seen, not an error."""
    found = measure_staircase(Staircase([*OCTAVES[:8], OCTAVES[7] * 1.05]).recording(), RATE, VOLTS)
    assert found.volts == tuple(map(float, VOLTS))


def test_half_tracking_is_a_line_too():
    found = measure_staircase(Staircase([100 * 2 ** (i / 2) for i in (0, 1, 2, 4, 5)]).recording(), RATE, [*range(6)])
    assert found.missing_volts == (3.0,)


@pytest.mark.parametrize(("record", "words"), [
    (np.zeros(48_000), "silent"), (np.full(48_000, np.nan), "not numbers"), (np.ones(100), "under a tenth"),
    (np.random.default_rng(1).standard_normal(96_000), "No steady tone"),
])
def test_records_without_tones(record, words):
    with pytest.raises(MeasurementError, match=words):
        measure_staircase(record, RATE, [0, 1])


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("record", [
    (np.random.default_rng(2).random(176_400) < 1e-4) * 1.0, 1 + 1e-12 * np.sin(np.arange(96_000)),
    np.sin(2 * np.pi * np.cumsum(np.linspace(20, 9000, 96_000)) / RATE), np.sign(np.sin(np.arange(40_000) / 7)),
    np.cumsum(np.random.default_rng(3).standard_normal(48_000)) * 1e-3, np.eye(1, 9600)[0],
], ids=["clicks", "nothing on DC", "chirp", "square", "wander", "one click"])
def test_odd_recordings_are_refused_in_words(record):
    with pytest.raises(MeasurementError):
        measure_staircase(record, RATE, [0, 1, 2])


@pytest.mark.long
def test_long_recordings_are_read_in_blocks():
    """A step across the seam of two blocks is one piece."""
    staircase = Staircase([200.0, 300.0, 400.0], step_s=27.0, harmonics=())
    pieces = find_pieces(staircase.recording(), RATE)
    assert [round(p.frequency_hz) for p in pieces] == [200, 300, 400]
    assert all(p.duration_s > 26.5 for p in pieces)


@pytest.mark.parametrize("partials", some([
    (0.58, 1.0, 0.71, 0.93, 0.51), (0.3, 1.0, 0.5, 0.2), (0.2, 0.1, 0.1, 0.8, 1.0), (0.3, 0.8, 0.9, 1.0, 0.7),
    (0.0, 1.0, 0.8, 0.5, 0.3)], 2), ids=str)
@pytest.mark.parametrize("volts", [(0, 1, 2, 3), (0, 0.5, 1, 1.5, 2)], ids=str)
def test_partials_of_like_strength_do_not_pull_the_pitch_between_them(partials, volts):
    """A track of the pitch then lies where there is no line at all, and once that was stated as a pitch."""
    hertz, generator = 95.0 * 2.0 ** np.array(volts), np.random.default_rng(4)
    t = np.arange(round(0.7 * RATE)) / RATE
    edges = np.clip(np.minimum(t, t[-1] - t) / 0.004, 0, 1)
    steps = [edges * sum(size * np.sin(2 * np.pi * n * f * t + generator.uniform(0, 6.3))
                         for n, size in enumerate(partials, start=1)) for f in hertz]
    record = np.concatenate([part for step in steps for part in (step, np.zeros(2400))])
    record += generator.normal(0, 1e-4, record.size)
    found = measure_staircase(record, RATE, list(volts))
    cents = 1200 * np.log2([tone.frequency_hz.value for tone in found.tones] / hertz)
    assert np.abs(cents).max() < 0.3


@pytest.mark.parametrize(("at_s", "samples"), some([(2.9, 313), (2.75, 1501), (4.4, 5), (1.45, 777)], 2))
def test_samples_lost_within_a_step_are_named_and_its_pitch_is_what_it_was(at_s, samples):
    """The phase jumps, and a fit across the jump would bend by cents."""
    staircase = Staircase(OCTAVES[1:8], harmonics=(0.0, 0.33, 0.0, 0.2), noise_db=-60.0)
    record, at = staircase.recording(), round(at_s * RATE)
    found = measure_staircase(np.delete(record, np.arange(at, at + samples)), RATE, VOLTS[1:8])
    if any(tone.start_s < at_s < tone.stop_s for tone in found.tones):  # else what is left of the step is whole
        (notice,) = found.notices
        assert notice.fault is Fault.SAMPLES_LOST
        assert notice.at_s == pytest.approx(at_s, abs=0.02)
    off = staircase.errors_cents(found)
    assert (np.abs(off) < 2 * np.array([1731 * t.frequency_hz.uncertainty / t.frequency_hz.value
                                        for t in found.tones])).all()


@pytest.mark.parametrize("how", some([
    {}, {"glide_s": 0.02}, {"clicks": 30}, {"drift_cents_per_s": 1.5}, {"noise_db": -20.0}], 2))
def test_a_step_that_loses_nothing_is_not_complained_of(how):
    assert not measure_staircase(Staircase(OCTAVES[1:8], **how).recording(), RATE, VOLTS[1:8]).notices


@pytest.mark.parametrize("per_s", some([25.0, -9.0], 1, long=2))
def test_what_drifts_is_named_and_the_interval_holds_all_the_way(per_s):
    """Which moment of a step one means decides by cents then."""
    staircase = Staircase(OCTAVES[1:6], drift_cents_per_s=per_s)
    found = measure_staircase(staircase.recording(), RATE, VOLTS[1:6])
    named = [notice for notice in found.notices if notice.fault is Fault.PITCH_UNSTEADY]
    assert len(named) == 1
    assert named[0].facts["cents_per_s"] == pytest.approx(per_s, rel=0.05)
    for tone, hertz in zip(found.tones, staircase.frequency_hz, strict=True):
        assert abs(tone.frequency_hz.value - hertz) < tone.frequency_hz.uncertainty
        assert tone.frequency_hz.uncertainty < hertz * np.log(2) / 1200 * abs(per_s)


@pytest.mark.parametrize("seeds", some([range(2), range(2, 14)], 1))
def test_of_a_pitch_that_wanders_within_a_step_the_interval_holds_the_mean_of_what_was_taken(seeds):
    ratios = []
    for seed in seeds:
        generator = np.random.default_rng(seed)
        courses = []
        for hertz in OCTAVES[1:6]:
            way = np.cumsum(generator.standard_normal(38_400))
            way -= np.linspace(way[0], way[-1], way.size)
            courses.append(hertz * 2 ** (4 * way / np.abs(way).max() / 1200))
        played_hz = np.concatenate([np.zeros(14_400), *courses, np.zeros(9600)])
        record = np.sin(2 * np.pi * np.cumsum(played_hz) / RATE) * (played_hz > 0)
        found = measure_staircase(record + 1e-3 * generator.standard_normal(record.size), RATE, VOLTS[1:6])
        for tone in found.tones:
            truth = played_hz[round(tone.start_s * RATE) : round(tone.stop_s * RATE)].mean()
            ratios.append(abs(tone.frequency_hz.value - truth) / tone.frequency_hz.uncertainty)
            assert tone.frequency_hz.uncertainty < 0.01 * truth
    assert np.mean(np.array(ratios) < 1) > 0.9
    assert max(ratios) < 2


def test_samples_lost_in_a_tone_are_named():
    t = np.arange(round(1.5 * RATE)) / RATE
    tone = np.sin(2 * np.pi * 123.4 * t) + 1e-3 * np.random.default_rng(1).normal(size=t.size)
    for record, faults in ((tone, []), (np.delete(tone, np.arange(30_000, 30_200)), [Fault.SAMPLES_LOST])):
        named = read_tone(record, RATE)[1]
        assert [notice.fault for notice in named] == faults
    assert named[0].at_s == pytest.approx(30_000 / RATE, abs=0.02)


@pytest.mark.parametrize("depth_cents", [0.0, 12.0])
def test_vibrato_of_a_long_tone_is_found_at_its_rate(depth_cents):
    """Of twenty seconds two thousand rates could be told apart."""
    t = np.arange(20 * 16_000) / 16_000
    swing = 220 * 2 * np.pi * depth_cents / 1200 * np.log(2) / (2 * np.pi * 5.3)
    record = np.sin(2 * np.pi * 220 * t + swing * np.sin(2 * np.pi * 5.3 * t))
    tone, notice = without_vibrato(record, 16_000.0, StepTone(0.0, 20.0, Uncertain(220.0, 0.01), 1.0, 0.0))
    if not depth_cents:
        assert notice is None
        return
    assert notice.facts["rate_hz"] == pytest.approx(5.3, abs=0.01)
    assert notice.facts["depth_cents"] == pytest.approx(depth_cents, rel=0.01)
    assert abs(tone.frequency_hz.value - 220) < tone.frequency_hz.uncertainty


def test_a_piece_of_silence_has_no_line():
    piece = Piece(0.0, 1.0, 100.0, -80.0)
    assert on_a_line(np.zeros(48_000), RATE, piece) == piece
    assert step_tone(np.zeros(48_000), RATE, piece) is None
