"""State of telling which circuit the filter in hand is: measured or read, what was found, what would tell more."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.identity import IDENTITY, IdentitySetting, from_files
from jiyuu.book.stored import StoredRun
from jiyuu.book.table import Table
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session


class CircuitPresenter(QObject):
    """What it shows stands in the book: the newest run of the kind."""

    changed = pyqtSignal()

    def __init__(self, session: Session, measuring: Measuring, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._measuring = session, measuring
        self.run: StoredRun | None = None
        self.tables: list[Table] = []

    def look(self) -> None:
        """At what the book has of the filter in hand."""
        shelved, book = self._session.in_hand, self._session.book
        runs = [] if shelved is None else book.runs(shelved.id, IDENTITY.key)
        self.run = next((run for run in runs if "identity" in run.facts), None)
        self.tables = []
        if self.run is not None:
            tables = book.tables(self.run.id)
            self.tables = [tables[name] for name in sorted(tables) if name.startswith("residual")]
        self.changed.emit()

    @property
    def told(self) -> dict[str, Any]:
        """Verdict, candidates, what would tell; empty before anything was measured."""
        return {} if self.run is None else dict(self.run.facts["identity"])

    @property
    def levels_v(self) -> tuple[float, ...]:
        """Peaks of the sweeps, softest first."""
        return () if self.run is None else tuple(float(level) for level in self.run.facts.get("levels_v", ()))

    @property
    def would_tell_v(self) -> float | None:
        """Level of a sweep that would tell what was not told; None where nothing is open."""
        open_ones = self.told.get("to_tell") or [{}]
        return open_ones[0].get("level_v")

    def measure(self) -> None:
        """On the simulated unit, soft and loud."""
        self._measuring.measure(IDENTITY, setting=IdentitySetting())

    def measure_what_tells(self) -> None:
        """The same with one level more."""
        level_v = self.would_tell_v
        if level_v is not None:
            self._measuring.measure(IDENTITY, setting=IdentitySetting(levels_v=self.levels_v).with_level(level_v))

    def read(self, pairs: Sequence[tuple[Path, Path]], whistle: Path | None, channel: str | None) -> None:
        """From files instead."""
        self._measuring.read(IDENTITY.name, lambda standing: from_files(standing, pairs, whistle, channel=channel))
