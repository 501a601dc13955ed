"""State of the ear trainer: a topic, a question, an answer, the next one harder or easier."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.blind import pair_of_sounds
from jiyuu.bench.training import Trained, finding_of, history, keep_training
from jiyuu.character.scales import SCALE
from jiyuu.character.trainer import ASKED, Question, Staircase, Topic, question
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.session import Session
from jiyuu.signals.source import Source, SourceKind
from jiyuu.wording.findings import sentence

PLAYED = Source(SourceKind.SAW, 110.0, 5.0)


class TrainerPresenter(QObject):
    """The filters are drawn, not those of the shelf."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.topic = Topic.RESONANCE
        self.stairs: Staircase | None = None
        self.question: Question | None = None
        self.after = self.result = ""
        self.ear = EarPair(session, "making a question", self)
        self.ear.changed.connect(self.changed)
        self.ear.message.connect(self.message)
        self.ear.making.stepped.connect(self._asked)

    @property
    def before(self) -> list[Trained]:
        """Sessions of the topic, newest first."""
        return history(self._session.book, self.topic)

    def choose(self, topic: Topic) -> None:
        self.topic = topic
        self.changed.emit()

    def begin(self) -> None:
        """A new session of the topic."""
        self.stairs, self.after, self.result = Staircase(self.topic), "", ""
        self._next()

    def _next(self) -> None:
        stairs = self.stairs
        if stairs is None:
            return
        topic, jnds, seed = stairs.topic, stairs.jnds, secrets.randbits(63)

        def steps() -> Iterator[object]:
            asked = question(topic, jnds, seed)
            yield asked, pair_of_sounds(asked.pair, PLAYED, equal=True)

        self.question = None
        self.ear.make(steps)

    def _asked(self, made: tuple[Question, Any]) -> None:
        self.question, sounds = made
        self.ear.take(sounds)

    def hear(self, button: int) -> None:
        """The first or the second."""
        self.ear.hear(button, button)

    def answer(self, answer: int) -> None:
        """Which of the two it is; then the next question, or the result."""
        asked, stairs = self.question, self.stairs
        if asked is None or stairs is None or not self.ear.ready:
            return
        if len(self.ear.seen) < 2:
            self.message.emit("Listen to both first.", False)
            return
        right = answer == asked.more
        scale = SCALE[ASKED[asked.topic][1]]
        values = " and ".join(f"{value:.3g}" for value in asked.values)
        self.after = (f"{'Right' if right else 'Not right'}: {scale.title.lower()} {values} {scale.unit}, "
                      f"{asked.jnds:.1f} just-noticeable differences apart.")
        self.stairs = stairs.answered(asked.jnds, right)
        if self.stairs.over:
            self.end()
        else:
            self._next()

    def end(self) -> None:
        """What was found so far is kept, where it is enough."""
        stairs, shelved = self.stairs, self._session.in_hand
        self.stairs = self.question = None
        self.ear.pause()
        found = None if stairs is None else finding_of(stairs)
        if stairs is None or found is None:
            self.result = "Too few turns to say anything: go on a little longer next time, until answers go wrong."
        else:
            self.result = sentence(found)
            if shelved is not None:
                keep_training(self._session.book, shelved.id, self._session.standing(), stairs)
                self._session.runs_changed()
        self.changed.emit()

    def leave(self) -> None:
        """Nobody looks at it any more: silence, and the session is given up."""
        self.ear.leave()
        self.stairs = self.question = None
