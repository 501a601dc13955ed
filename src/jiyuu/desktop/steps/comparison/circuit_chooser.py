"""Recordings that a circuit is told by: a sweep and what came of it, softly and loud, and the whistle."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QWidget

from jiyuu.desktop.parts.aside import Aside, main_button
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.recordings_chooser import FileRow

ABOUT = ("Sweeps of one level each, played softly and loud through the same filter at the same "
         "setting, below its self-oscillation. Its whistle at the same cutoff tells more; one level alone tells only "
         "the response.")
ROWS = ("Soft sweep", "Recording of it", "Loud sweep", "Recording of that", "Whistle")
CHANNELS = ("found by what is in it", "left", "right")

Taken = Callable[[list[tuple[Path, Path]], Path | None, str | None], None]


class CircuitRecordings(Aside):
    """Not modal; then: called with the pairs, the whistle and the channel."""

    def __init__(self, parent: QWidget, then: Taken) -> None:
        super().__init__(parent, "Tell a circuit from recordings")
        self._then = then
        column = self.sheet(ABOUT)
        rows = form()
        self.files = [FileRow(name) for name in ROWS]
        for name, row in zip(ROWS, self.files, strict=True):
            rows.addRow(name, row)
            row.changed.connect(self._check)
        self.channel = QComboBox()
        self.channel.addItems(CHANNELS)
        self.channel.setAccessibleName("Channel")
        rows.addRow("Channel", self.channel)
        column.addLayout(rows)
        self.tell = main_button("Tell", self._take)
        column.addWidget(self.tell, 0, Qt.AlignmentFlag.AlignLeft)
        self._check()

    def pairs(self) -> list[tuple[Path, Path]]:
        """Those that are whole."""
        paths = [row.path for row in self.files]
        return [(played, heard) for played, heard in zip(paths[0:4:2], paths[1:4:2], strict=True) if played and heard]

    def _check(self) -> None:
        given = [row.path is not None for row in self.files[:4]]
        whole = given[0] == given[1] and given[2] == given[3]
        self.tell.setEnabled(whole and bool(self.pairs()))

    def _take(self) -> None:
        channel = None if self.channel.currentIndex() == 0 else self.channel.currentText()
        self._then(self.pairs(), self.files[4].path, channel)
        self.close()
