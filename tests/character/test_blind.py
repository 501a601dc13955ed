"""Blind listening: chance counted out by hand, orders that cannot be guessed, sounds that match their codes."""

from itertools import product
from math import comb

import numpy as np
import pytest
from scipy.stats import binomtest

from jiyuu.bench.blind import Series, pair_of_sounds
from jiyuu.bench.heard import HEARD_RATE_HZ
from jiyuu.bench.walk import walk
from jiyuu.character.blind import (
    ANSWERS,
    BUTTONS,
    Task,
    drawn_order,
    judged,
    least_right,
    proposed_trials,
    right_answer,
    sounds_of,
)
from jiyuu.character.subject import Subject
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import MeasurementError
from jiyuu.measurement.levels import loudness_lufs
from jiyuu.signals.source import Source, SourceKind
from jiyuu.wording.findings import sentence

TASKS = list(Task)


def at_least(right, trials, chance):
    """Of all series of guesses, written out."""
    return sum(comb(trials, k) * chance**k * (1 - chance) ** (trials - k) for k in range(right, trials + 1))


@pytest.mark.parametrize("task", TASKS)
@pytest.mark.parametrize(("right", "trials"), [(0, 5), (5, 5), (12, 16), (60, 100), (199, 200)])
def test_what_guessing_does_is_counted_out(task, right, trials):
    order = drawn_order(task, trials, seed=3)
    answers = [right_answer(task, code) if i < right else (right_answer(task, code) + 1) % len(ANSWERS[task])
               for i, code in enumerate(order)]
    found = judged(task, order, answers)
    assert (found.right, found.trials) == (right, trials)
    assert found.p == pytest.approx(at_least(right, trials, task.chance), rel=1e-9)
    assert found.p == pytest.approx(binomtest(right, trials, task.chance, alternative="greater").pvalue, rel=1e-13)
    ends = binomtest(right, trials).proportion_ci(0.95, "exact")
    assert (found.low, found.high) == pytest.approx((ends.low, ends.high))
    assert found.told_apart == (at_least(right, trials, task.chance) <= 0.05)
    assert found.missed == pytest.approx(1 - at_least(found.least, trials, 0.75), abs=1e-12)


@pytest.mark.parametrize("task", TASKS)
def test_the_trials_proposed_are_enough_and_stay_enough(task):
    n = proposed_trials(task)

    def power(trials):
        return at_least(least_right(task, trials), trials, 0.75)

    assert all(power(m) >= 0.8 for m in range(n, 201))
    assert power(n - 1) < 0.8
    assert at_least(least_right(task, n), n, task.chance) <= 0.05 < at_least(least_right(task, n) - 1, n, task.chance)


@pytest.mark.parametrize("task", TASKS)
def test_every_code_has_one_right_answer_that_can_be_heard(task):
    codes = range(6 if task is Task.THREE else 2)
    for code in codes:
        played, right = sounds_of(task, code), right_answer(task, code)
        assert len(played) == len(BUTTONS[task])
        assert set(played) == {0, 1}
        if task is Task.THREE:
            assert [played.count(one) for one in played].index(1) == right
        else:
            hidden = played[2] if task is Task.ABX else played[1 + right]
            assert played[0] == 0
            assert hidden == (right if task is Task.ABX else 0)
    answers = {right_answer(task, code) for code in codes}
    assert answers == set(range(len(ANSWERS[task])))


@pytest.mark.parametrize("task", TASKS)
def test_orders_repeat_with_their_seed_and_follow_no_pattern(task):
    order = drawn_order(task, 200, seed=9)
    assert order == drawn_order(task, 200, seed=9) != drawn_order(task, 200, seed=10)
    many = np.array([code for seed in range(60) for code in drawn_order(task, 200, seed)])
    codes = 6 if task is Task.THREE else 2
    assert np.bincount(many, minlength=codes) == pytest.approx(np.full(codes, many.size / codes), rel=0.06)
    pairs = {pair: np.mean((many[:-1] == pair[0]) & (many[1:] == pair[1])) for pair in product(range(codes), repeat=2)}
    assert list(pairs.values()) == pytest.approx([1 / codes**2] * codes**2, rel=0.2)


@pytest.mark.parametrize("trials", [0, 4, 201])
def test_too_few_or_too_many_trials_are_refused(trials):
    with pytest.raises(MeasurementError, match="5 to 200"):
        drawn_order(Task.ABX, trials, seed=1)


def test_nothing_is_judged_of_no_answers():
    with pytest.raises(MeasurementError, match="Nothing was answered"):
        judged(Task.ABX, (0, 1), ())


def test_the_result_says_what_it_shows_and_what_not():
    walk()  # the steps bring their sentences along
    series = Series.begun(Task.ABX, ("B", "D"), 16, seed=5)
    for code in series.order[:14]:
        series = series.answered(code)
    assert series.last_was_right
    for code in series.order[14:]:
        series = series.answered(1 - code)
    assert series.over
    assert not series.last_was_right
    said = sentence(series.finding())
    assert said.startswith("B and D are told apart blind (ABX): 14 of 16 right (88 %); guessing does as well in 0.21 %")
    assert "does not show which is better" in said
    guessed = Series.begun(Task.THREE, ("B", "D"), 12, seed=5)
    for code in guessed.order:
        guessed = guessed.answered((code // 2 + 1) % 3)
    said = sentence(guessed.finding())
    assert "not told apart blind (the odd one of three): 0 of 12" in said
    assert "guessing does as well in nearly all of series" in said
    assert "does not show that they sound alike" in said


def test_both_are_equally_loud_and_as_they_are_they_are_not():
    soft, loud = (Subject(Filter(name="V", circuit="transistor-ladder"), "lowpass-24", 600.0, gain, 1.0)
                  for gain in (3.0, 0.0))
    source = Source(SourceKind.SAW, 110.0, 2.0)
    equal, plain = (pair_of_sounds([soft, loud], source, equal=equal) for equal in (True, False))
    levels = [loudness_lufs(sound, HEARD_RATE_HZ) for sound in equal]
    assert levels[0] == pytest.approx(levels[1], abs=0.05)
    assert np.ptp([loudness_lufs(sound, HEARD_RATE_HZ) for sound in plain]) > 3
    for pair in (equal, plain):
        assert max(np.abs(sound).max() for sound in pair) == pytest.approx(0.5)
