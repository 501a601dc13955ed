"""The ear trainer: questions as far apart as they say, a staircase that settles where a listener's ear lies."""

import numpy as np
import pytest

from jiyuu.bench.standing import Standing
from jiyuu.bench.training import history, keep_training
from jiyuu.bench.walk import walk
from jiyuu.book.store import Book
from jiyuu.character.descriptors import describe
from jiyuu.character.scales import SCALE
from jiyuu.character.trainer import ASKED, LEAST_JNDS, MOST_QUESTIONS, Staircase, Topic, question
from jiyuu.circuits.linear import complex_gain
from jiyuu.signals.source import Source
from tests.book.test_exchange import spoil, written
from tests.trials import some

PLAYED = (Topic.PLACE, Topic.MODE)


@pytest.mark.parametrize("topic", [topic for topic in Topic if topic not in PLAYED])
@pytest.mark.parametrize(("jnds", "seed"), some([(0.2, 1), (1.0, 2), (3.0, 3), (8.0, 4)], 1, long=2))
def test_a_question_is_at_least_as_far_apart_as_can_be_noticed(topic, jnds, seed):
    asked = question(topic, jnds, seed)
    name = ASKED[topic][1]
    values = [describe(one, Source(), names=[name])[name].value for one in asked.pair]
    assert values == pytest.approx(list(asked.values))
    assert int(np.argmax(values)) == asked.more
    noticed = SCALE[name].noticed
    least = noticed.absolute if noticed.absolute is not None else noticed.share * min(values)
    assert abs(values[1] - values[0]) >= 0.999 * least
    if topic is not Topic.SLOPE:  # modes come as they are
        assert asked.jnds == pytest.approx(max(jnds, LEAST_JNDS), rel=0.1)
    assert question(topic, jnds, seed).values == asked.values
    if topic is Topic.FAMILY:
        assert asked.pair[asked.more].filter.circuit == "transistor-ladder"
        assert asked.pair[1 - asked.more].filter.circuit == "diode-ladder"
        stages = (1 + 0.125j) ** 4  # of a ladder, three octaves under its cutoff
        lost_db = 20 * np.log10(abs(stages / (stages + asked.pair[asked.more].gain)))
        assert asked.values[asked.more] == pytest.approx(lost_db, abs=1e-6)


@pytest.mark.long
def test_driven_behind_the_filter_is_brighter_than_ahead_of_it():
    """A saw and the same stage in both; by their spectra, made here by an integrator and a curve of our own."""
    asked = question(Topic.PLACE, 6.0, 8)
    behind, ahead = asked.pair[asked.more], asked.pair[1 - asked.more]
    assert [one.filter.path[-1].stage for one in (behind, ahead)] == ["shape", "filter"]
    headroom_v = behind.filter.path[-1].headroom_v
    assert ahead.filter.path[0].headroom_v == headroom_v
    assert asked.jnds == pytest.approx(6.0, rel=0.2)
    rate = 110.0 * 1024  # a period: every line stands on a bin
    saw = 5.0 * behind.drive * (2 * (np.arange(1024) + 0.5) / 1024 - 1)
    hz = np.fft.rfftfreq(1024, 1 / rate)
    heard = (hz > 0) & (hz < 20_000)
    stages = (1 + 1j * hz / behind.cutoff_hz) ** 4

    def filtered(wave):  # so soft that the ladder's own stages hardly bend
        return np.fft.irfft(np.fft.rfft(wave) / (stages + behind.gain), 1024)

    def soft(wave):
        return headroom_v * np.tanh(wave / headroom_v)

    def centroid_hz(wave):
        power = np.abs(np.fft.rfft(wave)[heard]) ** 2
        return float(np.sum(hz[heard] * power) / np.sum(power))

    apart = np.log2(centroid_hz(soft(filtered(saw))) / centroid_hz(filtered(soft(saw))))
    assert asked.values[asked.more] - asked.values[1 - asked.more] == pytest.approx(apart, abs=0.05)


@pytest.mark.long
def test_a_bandpass_is_told_from_a_lowpass_the_better_the_less_they_ring():
    near, far = question(Topic.MODE, 4.0, 5), question(Topic.MODE, 16.0, 5)
    for asked in (near, far):
        assert [asked.pair[i].mode for i in (asked.more, 1 - asked.more)] == ["bandpass", "lowpass"]
        assert asked.pair[0].gain == asked.pair[1].gain
        assert asked.jnds >= LEAST_JNDS
    assert near.jnds < far.jnds
    assert near.pair[0].gain > far.pair[0].gain


def test_more_resonance_is_a_higher_peak_and_a_steeper_slope_falls_more():
    """By their responses, written out here."""
    hz = np.geomspace(30, 18_000, 4000)

    def level(subject):
        gain = complex_gain(subject.network, hz, cutoff_hz=subject.cutoff_hz, gain=subject.gain, modes=[subject.mode])
        return 20 * np.log10(np.abs(gain[0]))

    asked = question(Topic.RESONANCE, 4.0, 7)
    peaks = [level(one).max() - level(one)[0] for one in asked.pair]
    assert abs(peaks[0] - peaks[1]) == pytest.approx(4.0, abs=0.05)
    asked = question(Topic.SLOPE, 2.0, 7)
    ends = [level(one)[-1] - level(one)[0] for one in asked.pair]
    assert int(np.argmin(ends)) == asked.more
    asked = question(Topic.CUTOFF, 2.0, 7)
    assert max(one.cutoff_hz for one in asked.pair) / min(one.cutoff_hz for one in asked.pair) == pytest.approx(1.05**2)


def test_first_and_second_are_drawn():
    which = [question(Topic.CUTOFF, 3.0, seed).more for seed in range(60)]
    assert 15 < sum(which) < 45


@pytest.mark.parametrize("ear", [2.5, 4.0, 8.0])
def test_the_staircase_settles_where_seven_of_ten_are_right(ear):
    """A listener who is right in 1 − ½·2^(−(d/ear)²): at d = 0.88 ear in 70.7 % of questions."""
    found, questions = [], []
    for seed in range(200):
        draw, stairs = np.random.default_rng(seed), Staircase(Topic.RESONANCE)
        while not stairs.over:
            right = draw.random() < 1 - 0.5 * 2 ** (-((stairs.jnds / ear) ** 2))
            stairs = stairs.answered(stairs.jnds, bool(right))
        questions.append(len(stairs.trail))
        if stairs.threshold_jnds is not None:
            found.append(stairs.threshold_jnds)
    assert len(found) > 170
    assert np.exp(np.mean(np.log(found))) == pytest.approx(0.88 * ear, rel=0.15)
    assert max(questions) <= MOST_QUESTIONS


def test_it_never_asks_for_less_than_can_be_noticed_and_ends():
    stairs = Staircase(Topic.BASS)
    while not stairs.over:
        assert stairs.jnds >= LEAST_JNDS
        stairs = stairs.answered(stairs.jnds, True)
    assert stairs.jnds == LEAST_JNDS
    assert stairs.threshold_jnds is None  # never wrong: nothing to be told


def test_a_history_is_read_around_what_does_not_read(tmp_path):
    walk()  # the steps bring their sentences along
    book = Book.open(written(tmp_path / "a.jiyuu", runs=1))
    stairs = Staircase(Topic.BASS)
    for right in (True, True, False) * 9:
        stairs = stairs.answered(stairs.jnds, right)
    standing = Standing.of(book.filters()[0].document)
    runs = [keep_training(book, 1, standing, stairs) for _ in range(3)]
    assert None not in runs
    assert keep_training(book, 1, standing, Staircase(Topic.BASS)) is None
    spoil(book.path, ("UPDATE runs SET facts = '{' WHERE id = ?", (runs[0],)),
          ("UPDATE runs SET facts = '{\"trained\": 3}' WHERE id = ?", (runs[1],)))
    (left,) = history(book, Topic.BASS)
    assert left.jnds == stairs.threshold_jnds
    assert history(book, Topic.DRIVE) == []
    book.close()
