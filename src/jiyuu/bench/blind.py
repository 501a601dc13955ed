"""A series of blind listening: its order fixed and kept first, its sounds at one loudness, its result as a run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import HEARD_RATE_HZ, equally_loud, under_peak
from jiyuu.bench.standing import Standing
from jiyuu.book.store import Book
from jiyuu.character.blind import Judged, Task, drawn_order, judged, right_answer, sounds_of
from jiyuu.character.sound import ring_s
from jiyuu.character.subject import Subject
from jiyuu.measurement.contexts import HeardBlind
from jiyuu.measurement.finding import Finding
from jiyuu.signals.looped import SEAM_S, seamless
from jiyuu.signals.source import Source
from jiyuu.simulation.render import oversampling_for, render

PLAYED_S, LONGEST_WAIT_S = 2.0, 2.0
STEP = "comparison"


@dataclass(frozen=True, slots=True)
class Series:
    """pair: letters of the first and the second filter; order: a code a trial; answers: those given so far."""

    task: Task
    pair: tuple[str, str]
    order: tuple[int, ...]
    answers: tuple[int, ...] = ()

    @classmethod
    def begun(cls, task: Task, pair: tuple[str, str], trials: int, seed: int) -> Series:
        """Raises MeasurementError for a number of trials that cannot be."""
        return cls(task, pair, drawn_order(task, trials, seed))

    @property
    def over(self) -> bool:
        return len(self.answers) == len(self.order)

    @property
    def playing(self) -> tuple[int, ...]:
        """Which of the two each button plays in the trial at hand."""
        return sounds_of(self.task, self.order[len(self.answers)])

    def answered(self, answer: int) -> Series:
        return replace(self, answers=(*self.answers, answer))

    @property
    def last_was_right(self) -> bool:
        """Of the trial that was answered last."""
        return self.answers[-1] == right_answer(self.task, self.order[len(self.answers) - 1])

    @property
    def result(self) -> Judged:
        return judged(self.task, self.order, self.answers)

    def as_json(self) -> dict[str, object]:
        """Order and answers, as a book keeps them."""
        return {"task": str(self.task), "pair": list(self.pair), "order": list(self.order),
                "answers": list(self.answers)}

    def finding(self) -> Finding:
        """What it shows."""
        found = self.result
        by = HeardBlind(str(self.task), *self.pair, found.right, found.trials, found.p, found.missed, found.told_apart)
        half = 50 * (found.high - found.low)
        return Finding("blind_right_percent", 100 * found.share, "%", half, context=by)


def pair_of_sounds(subjects: Sequence[Subject], source: Source, *, equal: bool) -> list[FloatArray]:
    """(n,) re full scale each, to be looped: settled, at one loudness (equal) or as they come out, the louder peak at
    PEAK."""
    made = []
    for subject in subjects:
        wait_s = float(np.clip(1.5 * ring_s(subject), 0.25, LONGEST_WAIT_S))
        record = source.record(duration_s=wait_s + PLAYED_S + SEAM_S, sample_rate_hz=HEARD_RATE_HZ)
        output = render(subject.network, record * subject.drive, sample_rate_hz=HEARD_RATE_HZ,
                        cutoff_hz=subject.cutoff_hz, gain=subject.gain, modes=[subject.mode],
                        oversampling=oversampling_for(subject.cutoff_hz)).output_v[0]
        made.append(seamless(output[round(wait_s * HEARD_RATE_HZ) :], HEARD_RATE_HZ))
    return equally_loud(made) if equal else under_peak(made)


def keep_series(
    book: Book, filter_id: int, standing: Standing, series: Series, setting: dict[str, object]
) -> int:
    """The series with its result as a run of the step; its row."""
    run, _ = book.add_run(filter_id, STEP, standing.mode, standing=standing.as_json(), setting=setting,
                          facts={"blind": series.as_json()}, source="blind listening", records={}, tables=[],
                          findings=[series.finding()])
    return run
