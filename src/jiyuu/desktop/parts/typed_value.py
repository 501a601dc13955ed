"""A field that takes typed values with units: '1k2', 'A4', '0.5 V', '45 %'. Double-click resets, arrows step."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QLineEdit, QWidget

from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import JiyuuError


class TypedValue(QLineEdit):
    """`parse` turns text into a number (raising JiyuuError), `show` the number into text, `stepped` moves it by one
    arrow key: (value, direction, fine) -> value."""

    entered = pyqtSignal(float)
    refused = pyqtSignal(str)
    reset = pyqtSignal()

    def __init__(
        self, name: str, *, parse: Callable[[str], float], show: Callable[[float], str],
        stepped: Callable[[float, int, bool], float], parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._parse, self._show, self._stepped = parse, show, stepped
        self._value = 0.0
        self.setAccessibleName(name)
        self.setMinimumWidth(0)
        self.returnPressed.connect(self._enter)
        self.editingFinished.connect(self._leave)

    def minimumSizeHint(self) -> QSize:
        """Room for a number with its unit, whatever stands there now."""
        size, metrics = super().minimumSizeHint(), self.fontMetrics()
        return QSize(max(size.width(), metrics.horizontalAdvance("00.00 kHz") + 4 * STEP), size.height())

    @property
    def value(self) -> float:
        """What stands in the field, whatever is being typed over it."""
        return self._value

    def set_value(self, value: float) -> None:
        self._value = value
        if not (self.hasFocus() and self.isModified()):
            self.setText(self._show(value))
            self._mark(False)

    def _enter(self) -> None:
        try:
            value = self._parse(self.text())
        except JiyuuError as error:
            self._mark(True)
            self.refused.emit(str(error))
            return
        self._mark(False)
        self.setModified(False)
        self.entered.emit(value)

    def _leave(self) -> None:
        if self.isModified() and not self.property("wrong"):
            self._enter()

    def _mark(self, wrong: bool) -> None:
        if bool(self.property("wrong")) != wrong:
            self.setProperty("wrong", wrong)
            style = self.style()
            assert style is not None
            style.unpolish(self)
            style.polish(self)

    def event(self, event: QEvent | None) -> bool:
        # Esc here means the value as it was, not the window's own use of that key.
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.key() == Qt.Key.Key_Escape
            and self.isModified()
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        moves = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}
        if event.key() in moves:
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            if self.isModified():  # what was typed counts first, and is not lost
                try:
                    self._value = self._parse(self.text())
                except JiyuuError as error:
                    self._mark(True)
                    self.refused.emit(str(error))
                    return
            self.setModified(False)
            self.entered.emit(self._stepped(self._value, moves[Qt.Key(event.key())], fine))
        elif event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.set_value(self._value)
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self.setModified(False)
        self.reset.emit()
