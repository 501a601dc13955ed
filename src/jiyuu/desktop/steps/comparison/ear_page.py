"""What pages for the ear have in common: a choice before, buttons to hear and to answer meanwhile, a result."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from jiyuu.bench.heard import WARNING
from jiyuu.desktop.ear_pair import EarPair
from jiyuu.desktop.parts.frame import narrow, scrolled
from jiyuu.desktop.parts.lines import Lines
from jiyuu.desktop.theme.style import STEP

LABEL_PX, FIELD_PX = 16 * STEP, 60 * STEP


class EarPage(QWidget):
    """Keys 1, 2, 3 play while the page has the focus. Kinds fill `before` and `meanwhile`, and say how they stand."""

    def __init__(self, name: str, about: str, ear: EarPair) -> None:
        super().__init__()
        self._ear, self._name = ear, name
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        whole, (area, column) = _column(self, 4 * STEP), scrolled()
        column.setSpacing(2 * STEP)
        whole.addWidget(area)
        self.title = QLabel(name)
        self.title.setProperty("role", "heading")
        column.addWidget(self.title)
        self.pages = QStackedWidget()
        before, meanwhile = QWidget(), QWidget()
        self.before, self.meanwhile = _column(before, 0), _column(meanwhile, 0)
        said = QLabel(about)
        said.setWordWrap(True)
        self.before.addWidget(said)
        for page in (before, meanwhile):
            self.pages.addWidget(page)
        column.addWidget(self.pages)
        self.told, self.more = QLabel(), QLabel()
        self.told.setAccessibleName("Result")
        self.more.setProperty("role", "quiet")
        for label in (self.told, self.more):
            label.setWordWrap(True)
            column.addWidget(label)
        column.addStretch(1)
        self.hear: list[QPushButton] = []

    def begin_button(self, then: Callable[[], object]) -> QPushButton:
        """Under what is chosen; the usual caution at it."""
        button = QPushButton("Begin")
        button.setToolTip(WARNING)
        button.clicked.connect(then)
        self.before.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
        return button

    @staticmethod
    def choice(name: str, choices: Sequence[tuple[str, object]], then: Callable[[Any], object]) -> QComboBox:
        """A box of choices, not wider than it need be."""
        box = narrow(QComboBox())
        box.setAccessibleName(name)
        box.setMaximumWidth(FIELD_PX)
        for text, value in choices:
            box.addItem(text, value)
        box.activated.connect(lambda _: then(box.currentData()))
        return box

    def buttons(self, said: str, count: int, then: Callable[[int], object], *, sounds: bool = False
                ) -> list[QPushButton]:
        """A row of them, each calling with its number; sounds: those that play."""
        made, label = [QPushButton() for _ in range(count)], QLabel(said)
        label.setProperty("role", "quiet")
        label.setMinimumWidth(LABEL_PX)
        for i, button in enumerate(made):
            button.clicked.connect(lambda _, i=i: then(i))
            if sounds:
                button.setCheckable(True)
                button.setProperty("role", "sound")
        self.meanwhile.addLayout(Lines(label, *made))
        if sounds:
            self.hear, self._play = made, then
        return made

    def show_heard(self, *, ready: bool) -> None:
        """Which button plays."""
        for i, button in enumerate(self.hear):
            button.setChecked(self._ear.heard == i)
            button.setEnabled(ready)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """1, 2, 3: what the buttons play."""
        assert event is not None
        key = event.key() - Qt.Key.Key_1
        if self._ear.ready and 0 <= key < len(self.hear) and not self.hear[key].isHidden():
            self._play(key)
        else:
            super().keyPressEvent(event)


def _column(widget: QWidget, margin: int) -> QVBoxLayout:
    column = QVBoxLayout(widget)
    column.setContentsMargins(margin, margin, margin, margin)
    column.setSpacing(2 * STEP)
    return column
