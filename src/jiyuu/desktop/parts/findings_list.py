"""Findings as sentences with their stamps; K keeps the chosen one in the logbook."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QModelIndex, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from jiyuu.book.stored import LoggedFinding
from jiyuu.desktop.parts.room_for_bar import keep_room_for_bar
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME
from jiyuu.measurement.finding import Finding, Verdict
from jiyuu.wording.findings import QUANTITIES, sentence

_LOGGED, _FINDING = int(Qt.ItemDataRole.UserRole), int(Qt.ItemDataRole.UserRole) + 1


class FindingsList(QListWidget):
    """Measured findings from the book, or predicted ones that cannot be kept."""

    keep_toggled = pyqtSignal(object)  # LoggedFinding

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setItemDelegate(_FindingDelegate(self))
        self.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        keep_room_for_bar(self)
        self.setAccessibleName("Findings")
        self.itemDoubleClicked.connect(lambda item: self._toggle(item))
        THEME.changed.connect(self._lay_out)

    def sizeHint(self) -> QSize:
        """As little as may be: what there is room for is a matter of shares, not of the words over them."""
        return self.minimumSizeHint()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.scheduleDelayedItemsLayout()

    def _lay_out(self) -> None:
        self.scheduleDelayedItemsLayout()

    def fill(
        self, logged: Sequence[LoggedFinding], predicted: Sequence[Finding] = (), *, predicted_first: bool = False
    ) -> None:
        """Measured ones, and under them what more the drawing says, or the other way round."""
        read: list[tuple[Finding, LoggedFinding | None]] = [(entry.finding, entry) for entry in logged]
        drawn: list[tuple[Finding, LoggedFinding | None]] = [(finding, None) for finding in predicted]
        self._fill(drawn + read if predicted_first else read + drawn)

    def sentences(self) -> list[str]:
        """What stands in the list."""
        return [item.text() for i in range(self.count()) if (item := self.item(i)) is not None]

    def current_quantity(self) -> str | None:
        """Name of the quantity of the chosen finding."""
        item = self.currentItem()
        return None if item is None else item.data(_FINDING).quantity

    def current(self) -> LoggedFinding | None:
        """The chosen finding, where it is measured."""
        item = self.currentItem()
        return None if item is None else item.data(_LOGGED)

    def keep_current(self) -> bool:
        """Keep (or take out) the chosen finding; False when there is none that can be."""
        item = self.currentItem()
        return item is not None and self._toggle(item)

    def _fill(self, entries: Sequence[tuple[Finding, LoggedFinding | None]]) -> None:
        row = self.currentRow()
        self.clear()
        for finding, logged in entries:
            item = QListWidgetItem(sentence(finding))
            quantity = QUANTITIES[finding.quantity]
            item.setToolTip(f"{quantity.help}\nF1: more")
            item.setData(_LOGGED, logged)
            item.setData(_FINDING, finding)
            self.addItem(item)
        if self.count():
            self.setCurrentRow(min(max(row, 0), self.count() - 1))

    def _toggle(self, item: QListWidgetItem) -> bool:
        logged = item.data(_LOGGED)
        if logged is None:
            return False
        self.keep_toggled.emit(logged)
        return True

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.keep_current()
        else:
            super().keyPressEvent(event)


class _FindingDelegate(QStyledItemDelegate):
    """Sentence in the text face; under it a stamp with the verdict, and whether it is kept."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        parent = self.parent()
        viewport = parent.viewport() if isinstance(parent, QListWidget) else None
        width = 220 if viewport is None else viewport.width()
        text = self._text_rect(str(index.data()), width)
        return QSize(width, text.height() + (self._stamp_height() if self._stamps(index) else 0) + 2 * STEP)

    @staticmethod
    def _text_rect(text: str, width: int) -> QRect:
        metrics = QFontMetrics(THEME.font(px=BODY_PX))
        return metrics.boundingRect(QRect(0, 0, width - 3 * STEP, 2000), Qt.TextFlag.TextWordWrap, text)

    @staticmethod
    def _stamp_height() -> int:
        return QFontMetrics(THEME.font(px=SMALL_PX, bold=True)).height() + 5

    @staticmethod
    def _stamps(index: QModelIndex) -> list[tuple[str, bool]]:
        finding: Finding = index.data(_FINDING)
        logged: LoggedFinding | None = index.data(_LOGGED)
        stamps = []
        if finding.verdict is not Verdict.UNJUDGED:
            stamps.append((finding.verdict.value, finding.verdict is Verdict.OUTSIDE))
        if logged is not None and logged.kept:
            stamps.append(("kept", False))
        return stamps

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        palette, rect = THEME.palette, option.rect
        painter.save()
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        if chosen:
            painter.fillRect(rect, QColor(palette.chosen))
            painter.fillRect(QRect(rect.left(), rect.top(), 3, rect.height()), QColor(palette.ink))
        painter.setPen(QPen(QColor(palette.rule), 1))
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        finding: Finding = index.data(_FINDING)
        painter.setFont(THEME.font(px=BODY_PX))
        painter.setPen(QColor(palette.ink if finding.measured else palette.quiet))
        text = self._text_rect(str(index.data()), rect.width())
        painter.drawText(
            QRect(rect.left() + 2 * STEP, rect.top() + STEP, rect.width() - 3 * STEP, text.height()),
            Qt.TextFlag.TextWordWrap, str(index.data()),
        )
        x = rect.left() + 2 * STEP
        font = THEME.font(px=SMALL_PX, bold=True)
        painter.setFont(font)
        metrics = QFontMetrics(font)
        for words, bad in self._stamps(index):
            box = QRect(x, rect.top() + STEP + text.height() + 2, metrics.horizontalAdvance(words) + 8,
                        metrics.height() + 1)
            painter.setPen(QPen(QColor(palette.attention if bad else palette.ink), 1.4))
            painter.drawRect(box)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
            x = box.right() + 2 * STEP
        painter.restore()
