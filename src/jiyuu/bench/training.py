"""An ear trained: questions by a staircase, what was told from what, its history in the book."""

from __future__ import annotations

from dataclasses import dataclass

from jiyuu.bench.blind import STEP
from jiyuu.bench.standing import Standing
from jiyuu.book.store import Book
from jiyuu.book.stored import document_of
from jiyuu.character.scales import SCALE
from jiyuu.character.trainer import ASKED, Staircase, Topic
from jiyuu.errors import JiyuuError
from jiyuu.measurement.contexts import TrainedTo
from jiyuu.measurement.finding import Finding

SOURCE = "ear trainer"


@dataclass(frozen=True, slots=True)
class Trained:
    """A session of before: day as '2026-11-27', its topic, the difference told in just-noticeable differences."""

    day: str
    topic: str
    jnds: float


def finding_of(stairs: Staircase) -> Finding | None:
    """What a staircase found; None before it has turned often enough."""
    jnds = stairs.threshold_jnds
    if jnds is None:
        return None
    by = TrainedTo(str(stairs.topic), SCALE[ASKED[stairs.topic][1]].title, len(stairs.trail))
    return Finding("trained_jnds", jnds, "JND", context=by)


def keep_training(book: Book, filter_id: int, standing: Standing, stairs: Staircase) -> int | None:
    """As a run of the step, beside the filter that was in hand; its row. None where nothing was found."""
    found = finding_of(stairs)
    if found is None:
        return None
    facts: dict[str, object] = {"trained": {"topic": str(stairs.topic), "trail": [list(one) for one in stairs.trail],
                                         "jnds": found.value}}
    run, _ = book.add_run(filter_id, STEP, standing.mode, standing=standing.as_json(), setting={}, facts=facts,
                          source=SOURCE, records={}, tables=[], findings=[found])
    return run


def history(book: Book, topic: Topic) -> list[Trained]:
    """Sessions of that topic, newest first."""
    found = []
    for row in book.raw("SELECT id, facts, made_at FROM runs WHERE source = ? AND shown = 1 ORDER BY id DESC", SOURCE):
        try:
            told = document_of(row["facts"], f"Run {row['id']}")["trained"]
            if told["topic"] == topic:
                found.append(Trained(str(row["made_at"])[:10], str(topic), float(told["jnds"])))
        except (JiyuuError, KeyError, TypeError, ValueError):
            continue  # what does not read is named where the book is opened
    return found
