"""The line under the walk that says what happened, or how far a measurement is, of which filter, and calls it off."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QSizePolicy, QWidget

from jiyuu.desktop.theme.style import STEP

SHOWN_MS = 8000


class Tidings(QWidget):
    """Always there, so that nothing jumps. A message goes after some seconds; an error stays until the next thing is
    said or Esc; while something is measured its progress stands at the right."""

    cancelled = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(2 * STEP, 0, 2 * STEP, 0)
        row.setSpacing(2 * STEP)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setIndent(3 * STEP)  # clear of the mark at the left, which a style sheet's own padding is not
        self.words.setTextFormat(Qt.TextFormat.PlainText)
        self.words.setAccessibleName("Message")
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.going = QLabel()
        self.going.setProperty("role", "quiet")
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress of the measurement")
        self.bar.setFixedWidth(40 * STEP)
        self.cancel = QPushButton("Cancel  Esc")
        self.cancel.setProperty("role", "page")
        self.cancel.clicked.connect(self.cancelled)
        row.addWidget(self.words, 1)
        for widget in (self.going, self.bar, self.cancel):
            row.addWidget(widget)
            policy = widget.sizePolicy()
            policy.setRetainSizeWhenHidden(widget is self.cancel)  # the line keeps its height
            widget.setSizePolicy(policy)
            widget.hide()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.clear)

    def say(self, text: str, *, error: bool) -> None:
        self.words.setText(text)
        self._mark("error" if error else "message")
        if error:
            self._timer.stop()
        else:
            self._timer.start(SHOWN_MS)

    def clear(self) -> None:
        """Nothing is said any more."""
        self._timer.stop()
        self.words.clear()
        self._mark("")

    def text(self) -> str:
        """What is said."""
        return self.words.text()

    @property
    def is_error(self) -> bool:
        return self.words.property("role") == "error"

    def show_busy(self, busy: bool) -> None:
        for widget in (self.going, self.bar, self.cancel):
            widget.setVisible(busy)

    def show_going(self, text: str, share: float) -> None:
        self.going.setText(f"{text} …")
        self.bar.setValue(round(1000 * share))

    def _mark(self, role: str) -> None:
        if self.words.property("role") != role:
            self.words.setProperty("role", role)
            style = self.words.style()
            assert style is not None
            style.unpolish(self.words)
            style.polish(self.words)
