"""A list of whole sentences, each as many lines high as it needs."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QModelIndex, QRect, QSize, Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtWidgets import QListView, QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from jiyuu.desktop.parts.room_for_bar import keep_room_for_bar
from jiyuu.desktop.theme.style import STEP


class NotesList(QListWidget):
    """name: for those who do not see it."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setProperty("role", "notes")
        self.setWordWrap(True)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setItemDelegate(_Whole(self))
        keep_room_for_bar(self)
        self.setAccessibleName(name)

    def say(self, sentences: Sequence[str]) -> None:
        """Instead of what stands there; what stays the same is not laid out again."""
        if [self._at(row).text() for row in range(self.count())] != list(sentences):
            while self.count() > len(sentences):
                self.takeItem(self.count() - 1)
            for row in range(self.count()):
                if self._at(row).text() != sentences[row]:
                    self._at(row).setText(sentences[row])
            self.addItems(sentences[self.count() :])

    def _at(self, row: int) -> QListWidgetItem:
        item = self.item(row)
        assert item is not None
        return item

    def sizeHint(self) -> QSize:
        """As little as may be: what there is room for is a matter of shares."""
        return self.minimumSizeHint()

    def text_width(self) -> int:
        """Of a line within its padding, pixels."""
        style, viewport = self.style(), self.viewport()
        assert style is not None
        assert viewport is not None
        margin = style.pixelMetric(QStyle.PixelMetric.PM_FocusFrameHMargin, None, self) + 1
        return viewport.width() - 2 * (STEP + margin)


class _Whole(QStyledItemDelegate):
    """Qt itself does not count the padding when it breaks lines, and cuts the last one off."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        notes = self.parent()
        assert isinstance(notes, NotesList)
        room = QRect(0, 0, notes.text_width(), 1 << 16)
        text = QFontMetrics(notes.font()).boundingRect(room, Qt.TextFlag.TextWordWrap, str(index.data()))
        return QSize(text.width(), text.height() + 2 * STEP + 1)
