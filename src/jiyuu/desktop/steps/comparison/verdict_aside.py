"""The own decision in own words, with the findings that carry it, into the logbook."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QPlainTextEdit, QWidget

from jiyuu.desktop.parts.aside import Aside, main_button

ABOUT = "What you decide, in your own words, and what of the findings carries it. It stands in the logbook as a note."


class VerdictAside(Aside):
    """then: called with the note as it is to be kept."""

    def __init__(self, parent: QWidget, then: Callable[[str], None]) -> None:
        super().__init__(parent, "Verdict", (440, 440))
        self._then, self._about = then, ""
        column = self.sheet(ABOUT)
        self.words = QPlainTextEdit()
        self.words.setAccessibleName("Verdict in own words")
        self.words.setPlaceholderText("for example: B for the harbour side, A where the bass must stay")
        self.words.setTabChangesFocus(True)
        self.words.textChanged.connect(self._check)
        column.addWidget(self.words, 1)
        self.carry = QListWidget()
        self.carry.setAccessibleName("Findings that carry it")
        self.carry.setWordWrap(True)
        column.addWidget(self.carry, 2)
        self.write = main_button("Write it down", self._take)
        column.addWidget(self.write, 0, Qt.AlignmentFlag.AlignLeft)
        self._check()

    def ask(self, about: str, sentences: Sequence[str]) -> None:
        """about: of what, such as 'B beside A'; sentences: the findings that may carry it."""
        self._about = about
        self.carry.clear()
        for sentence in sentences:
            item = QListWidgetItem(sentence)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.carry.addItem(item)
        self.bring()

    def _check(self) -> None:
        self.write.setEnabled(bool(self.words.toPlainText().strip()))

    def _take(self) -> None:
        items = [self.carry.item(i) for i in range(self.carry.count())]
        carried = [item.text() for item in items if item is not None and item.checkState() == Qt.CheckState.Checked]
        words = " ".join(self.words.toPlainText().split())
        by = f" Carried by: {' '.join(carried)}" if carried else ""
        self._then(f"Verdict, {self._about}: {words}{'' if words.endswith(('.', '!', '?')) else '.'}{by}")
        self.words.clear()
        self.close()
