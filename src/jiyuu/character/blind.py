"""Listening without knowing: what is played in which order, how many trials it takes, what the answers show.

Exact binomial statistics: nothing here is a normal approximation. Every trial is drawn by itself, so that who guesses
is right by chance in each, whatever came before.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

import numpy as np
import scipy

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError

LEVEL = 0.05  # of series that guessing would pass
SURE = 0.95  # so often an interval holds the share of right answers
POWER = 0.8  # of series in which a listener is found who is right
FOUND_SHARE = 0.75  # so often
FEWEST, MOST_TRIALS = 5, 200


class Task(StrEnum):
    """What is asked in every trial."""

    ABX = "ABX"
    TWO = "which of two"
    THREE = "odd one of three"

    @property
    def chance(self) -> float:
        """Of being right by guessing."""
        return 1 / 3 if self is Task.THREE else 1 / 2


# What the buttons of a trial are called, and which of them are named by the filters; the answers that can be given.
BUTTONS = {Task.ABX: ("first", "second", "X"), Task.TWO: ("first", "1", "2"), Task.THREE: ("1", "2", "3")}
ANSWERS = {Task.ABX: ("X is the first", "X is the second"), Task.TWO: ("1 is the first", "2 is the first"),
           Task.THREE: ("1 is the odd one", "2 is the odd one", "3 is the odd one")}


def drawn_order(task: Task, trials: int, seed: int) -> tuple[int, ...]:
    """A code for every trial, fixed before the first is heard. Raises MeasurementError for a number of trials that
    cannot be."""
    if not FEWEST <= trials <= MOST_TRIALS:
        raise MeasurementError(f"{trials} trials are out of range; take {FEWEST} to {MOST_TRIALS}.")
    codes = 6 if task is Task.THREE else 2
    return tuple(int(code) for code in np.random.default_rng(seed).integers(codes, size=trials))


def sounds_of(task: Task, code: int) -> tuple[int, ...]:
    """Which of the two filters each button plays: 0 the first, 1 the second."""
    if task is Task.ABX:
        return 0, 1, code
    if task is Task.TWO:
        return (0, 0, 1) if code == 0 else (0, 1, 0)
    place, odd = divmod(code, 2)
    return tuple(odd if i == place else 1 - odd for i in range(3))


def right_answer(task: Task, code: int) -> int:
    """Place among the answers."""
    return code // 2 if task is Task.THREE else code


@dataclass(frozen=True, slots=True)
class Judged:
    """right of trials, p: of series of guesses that come so far or farther; low, high: of the share of right answers
    (Clopper and Pearson 1934, 95 %); missed: of series in which one who is right in FOUND_SHARE would not be told from
    a guesser; least: right answers that would have shown something."""

    task: Task
    right: int
    trials: int
    p: float
    low: float
    high: float
    missed: float
    least: int

    @property
    def share(self) -> float:
        return self.right / self.trials

    @property
    def told_apart(self) -> bool:
        return self.p <= LEVEL


def judged(task: Task, order: Sequence[int], answers: Sequence[int]) -> Judged:
    """Of the trials that were answered. Raises MeasurementError where there are none, or more than trials."""
    if not answers or len(answers) > len(order):
        raise MeasurementError("Nothing was answered; listen to a trial first.")
    right = sum(answer == right_answer(task, code) for answer, code in zip(answers, order, strict=False))
    trials = len(answers)
    tail = 0.5 * (1 - SURE)
    low = float(scipy.special.betaincinv(right, trials - right + 1, tail)) if right else 0.0
    high = float(scipy.special.betaincinv(right + 1, trials - right, 1 - tail)) if right < trials else 1.0
    least = least_right(task, trials)
    missed = 1 - _found_in(least, trials)
    return Judged(task, right, trials, float(_tails(trials, task.chance)[right]), low, high, missed, least)


def _tails(trials: int, share: float) -> FloatArray:
    """Of series of so many trials, each right in a share of them, those with at least 0 to trials right,
    (trials + 1,)."""
    right = np.arange(1, trials + 1)
    ways = np.cumprod(np.concatenate([[1.0], (trials - right + 1) / right]))
    taken = np.arange(trials + 1)
    of_each = ways * share**taken * (1 - share) ** (trials - taken)
    return np.cumsum(of_each[::-1])[::-1]


def least_right(task: Task, trials: int) -> int:
    """Right answers from which guessing passes no more than LEVEL of series; trials + 1 where even all do not do."""
    return int(np.sum(_tails(trials, task.chance) > LEVEL))  # it falls with every right answer more


@lru_cache(maxsize=8)
def proposed_trials(task: Task) -> int:
    """The fewest with which one who is right in FOUND_SHARE is found in POWER of series, however many more are
    taken."""
    short = (n for n in range(MOST_TRIALS, FEWEST - 1, -1) if _found_in(least_right(task, n), n) < POWER)
    return next(short) + 1


def _found_in(least: int, trials: int) -> float:
    """Share of series in which one who is right in FOUND_SHARE gets so many right."""
    return float(_tails(trials, FOUND_SHARE)[least]) if least <= trials else 0.0
