"""The shelf: the filters on the bench, each with its letter, ink, dash and true response."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QButtonGroup, QScrollArea, QVBoxLayout, QWidget

from jiyuu.book.stored import Shelved
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.pens import pen_of
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME

_GLYPH_HZ = np.geomspace(30, 16_000, 72)


class ShelfCard(QAbstractButton):
    """One filter. Checked when it is in hand."""

    def __init__(self, shelved: Shelved, level_db: np.ndarray) -> None:
        super().__init__()
        self.shelved, self.level_db = shelved, level_db
        self._folded = False
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"Filter {shelved.letter}: {shelved.document.name}, {shelved.document.entry.title}")
        self.setToolTip(f"{shelved.document.entry.explanation}\n{shelved.document.notes}")

    def fold(self, folded: bool) -> None:
        """Letter and dash only."""
        self._folded = folded
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        if self._folded:
            return QSize(10 * STEP, 44)
        small = QFontMetrics(THEME.font(px=BODY_PX))
        letters = QFontMetrics(THEME.font(px=BODY_PX))
        return QSize(letters.horizontalAdvance("Transistor ladder") + 6 * STEP, 2 * small.height() + 44 + 3 * STEP)

    def minimumSizeHint(self) -> QSize:
        return QSize(9 * STEP, self.sizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette, rect = THEME.palette, self.rect().adjusted(2, 2, -2, -2)
        ink = palette.ink_of(self.shelved.letter)
        if self.isChecked():
            painter.fillRect(rect, QColor(palette.raised))
            painter.setPen(QPen(QColor(palette.ink), 1.4))
            painter.drawRect(rect)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(rect.adjusted(2, 2, -2, -2))
        painter.setPen(QColor(ink.colour))
        painter.setFont(THEME.font(px=19, bold=True))
        painter.drawText(QRect(rect.left() + 6, rect.top() + 2, 24, 26), Qt.AlignmentFlag.AlignCenter,
                         self.shelved.letter)
        painter.setPen(pen_of(ink, 2.2))
        painter.drawLine(QPointF(rect.left() + 5, rect.top() + 34), QPointF(rect.left() + 31, rect.top() + 34))
        if self._folded:
            return
        self._draw_glyph(painter, QRect(rect.left() + 38, rect.top() + 4, rect.width() - 44, 36))
        painter.setPen(QColor(palette.ink))
        painter.setFont(THEME.font(px=BODY_PX, bold=self.isChecked()))
        small = QFontMetrics(THEME.font(px=BODY_PX))
        text = QRect(rect.left() + 6, rect.top() + 42, rect.width() - 8, small.height())
        name = small.elidedText(self.shelved.document.name, Qt.TextElideMode.ElideRight, text.width() - 6)
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft, name)
        painter.setPen(QColor(palette.quiet))
        painter.setFont(THEME.font(px=SMALL_PX))
        tiny = QFontMetrics(THEME.font(px=SMALL_PX))
        title = tiny.elidedText(self.shelved.document.entry.title, Qt.TextElideMode.ElideRight, text.width() - 6)
        painter.drawText(text.translated(0, small.height()), Qt.AlignmentFlag.AlignLeft, title)

    def _draw_glyph(self, painter: QPainter, box: QRect) -> None:
        """The response from 30 Hz to 16 kHz over 60 dB."""
        palette = THEME.palette
        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        height = np.clip((self.level_db + 42) / 60, 0, 1)
        points = [
            QPointF(box.left() + box.width() * i / (height.size - 1), box.bottom() - box.height() * float(h))
            for i, h in enumerate(height)
        ]
        path = QPainterPath()
        path.addPolygon(QPolygonF(points))
        painter.setPen(QPen(QColor(palette.ink_of(self.shelved.letter).colour), 1.6))
        painter.drawPath(path)


class ShelfView(QScrollArea):
    """Cards one under the other; Up and Down move, a click or Space takes in hand."""

    chosen = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._group = QButtonGroup(self)
        self._cards: list[ShelfCard] = []
        self._folded = False
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Shelf")
        self._group.idClicked.connect(self.chosen)
        session.filter_changed.connect(self.refresh)
        session.settings_changed.connect(self._refresh_glyph)
        THEME.changed.connect(self._relay)
        self.refresh()

    def fold(self, folded: bool) -> None:
        """Letters only, where there is no room for more."""
        if folded != self._folded:
            self._folded = folded
            for card in self._cards:
                card.fold(folded)

    def refresh(self) -> None:
        """Cards anew when the shelf changed; else only which one is in hand."""
        if [card.shelved.id for card in self._cards] != [shelved.id for shelved in self._session.shelf]:
            inside = QWidget()
            column = QVBoxLayout(inside)
            column.setContentsMargins(STEP, STEP, 0, STEP)
            column.setSpacing(STEP)
            for card in self._cards:
                self._group.removeButton(card)
            self._cards = []
            for i, shelved in enumerate(self._session.shelf):
                card = ShelfCard(shelved, self._glyph(shelved))
                card.fold(self._folded)
                self._group.addButton(card, i)
                self._cards.append(card)
                column.addWidget(card)
            column.addStretch(1)
            self.setWidget(inside)
        in_hand = self._session.in_hand
        for card in self._cards:
            card.setChecked(in_hand is not None and card.shelved.id == in_hand.id)
            card.update()

    def _glyph(self, shelved: Shelved) -> np.ndarray:
        standing = self._session.standing(shelved)
        return level_db(complex_gain(standing.network, _GLYPH_HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                                     modes=[standing.mode])[0])

    def _relay(self) -> None:
        for card in self._cards:
            card.updateGeometry()
            card.update()

    def _refresh_glyph(self) -> None:
        for card in self._cards:
            if card.isChecked():
                card.level_db = self._glyph(card.shelved)
                card.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        moves = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event.key() in moves and self._cards:
            here = next((i for i, card in enumerate(self._cards) if card.hasFocus() or card.isChecked()), 0)
            there = min(max(here + moves[Qt.Key(event.key())], 0), len(self._cards) - 1)
            self._cards[there].setFocus()
            self.chosen.emit(there)
        else:
            super().keyPressEvent(event)
