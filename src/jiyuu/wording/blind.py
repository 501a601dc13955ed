"""What a series of blind listening shows, and what it does not."""

from __future__ import annotations

from jiyuu.measurement.contexts import HeardBlind, TrainedTo
from jiyuu.measurement.finding import Finding
from jiyuu.wording.quantity import Quantity, context

SHOWS_NOT = "It does not show which is better, nor what others hear, nor at another level or with another sound."
TASKS = {"which of two": "one of two", "odd one of three": "the odd one of three"}


def blind_sentence(by: HeardBlind) -> str:
    """The count, what guessing would do, and what is left open."""
    count = f"{by.right} of {by.trials} right ({100 * by.right / by.trials:.0f} %)"
    task = TASKS.get(by.task, by.task)
    if by.told_apart:
        return (f"{by.first} and {by.second} are told apart blind ({task}): {count}; guessing does as well in "
                f"{_percent(by.p)} of series. {SHOWS_NOT}")
    return (f"{by.first} and {by.second} are not told apart blind ({task}): {count}; guessing does as well in "
            f"{_percent(by.p)} of series. That does not show that they sound alike: who is right three times of four "
            f"would be missed in {_percent(by.missed)} of such series.")


def _percent(share: float) -> str:
    return "under 0.1 %" if share < 0.001 else f"{100 * share:.2g} %" if share < 0.995 else "nearly all"


def _says(finding: Finding) -> str:
    return blind_sentence(context(finding, HeardBlind))


def _trained(finding: Finding) -> str:
    by = context(finding, TrainedTo)
    return (f"Your ear tells {by.topic} from {finding.value:.1f} just-noticeable differences of {by.quantity.lower()} "
            f"up (right 71 times of 100; {by.questions} questions).")


QUANTITIES: dict[str, Quantity] = {
    "trained_jnds": Quantity(
        "Difference an ear tells", _trained, "The least difference of a quantity that was told seven times of ten.",
        "Two filters apart in one quantity, at one loudness; two right answers in a row make the next question harder "
        "by a factor 1.5, a wrong one easier (Levitt 1971, JASA). Read from the last six turns; never asked below one "
        "just-noticeable difference, so that a better ear reads 1 or a little more.",
        formula="geometric mean of the last turns, in just-noticeable differences of published listeners.",
    ),
    "blind_right_percent": Quantity(
        "Right when listening blind", _says, "How often two filters were told apart without knowing which is played.",
        "The order is drawn and kept before the first trial; both are played at one loudness (ITU-R BS.1770), with the "
        "same source, through the same ceiling. Exact binomial test against guessing, one-sided; told apart where "
        "guessing does as well in at most 5 % of series.",
        formula="p = P(X ≥ right), X binomial of the trials and the chance (1/2, of three 1/3).",
        schools="ABX gives both to compare with; the odd one of three needs no names and is harder on the memory.",
    ),
}
