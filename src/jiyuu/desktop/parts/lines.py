"""A row that goes on in further lines where it is too narrow: in large type words are wider than their place."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget

from jiyuu.desktop.theme.style import STEP


class Lines(QLayout):
    """Parts one after the other, each as wide as it wishes to be, and no wider than the line; those of a line stand on
    one middle."""

    def __init__(self, *parts: QWidget) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._width = 0  # that it was given last
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(STEP)
        for part in parts:
            self.addWidget(part)

    def addItem(self, item: QLayoutItem | None) -> None:
        assert item is not None
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._laid(QRect(0, 0, width, 0))[-1][0].bottom() + 1 if self._shown() else 0

    def setGeometry(self, place: QRect) -> None:
        super().setGeometry(place)
        if place.width() != self._width:  # who asks no width, such as a splitter, is told of the lines that it takes
            self._width = place.width()
            self.update()
        laid = self._laid(place)
        spare = max(place.bottom() - laid[-1][0].bottom(), 0) if laid else 0
        for box, item in laid:  # at the foot, next to what they are for
            item.setGeometry(box.translated(0, spare))

    def sizeHint(self) -> QSize:
        """All of them in one line."""
        wide = sum(item.sizeHint().width() + self.spacing() for item in self._shown()) - self.spacing()
        return QSize(max(wide, 0), max((item.sizeHint().height() for item in self._shown()), default=0))

    def minimumSize(self) -> QSize:
        """As wide as the widest, and as high as it is at the width it has."""
        wide = max((item.minimumSize().width() for item in self._shown()), default=0)
        return QSize(wide, self.heightForWidth(max(self._width, wide)) if self._width else self.sizeHint().height())

    def _shown(self) -> list[QLayoutItem]:
        return [item for item in self._items if not item.isEmpty()]

    def _laid(self, place: QRect) -> list[tuple[QRect, QLayoutItem]]:
        """Where each part stands, the lowest last."""
        found: list[tuple[QRect, QLayoutItem]] = []
        line: list[tuple[QRect, QLayoutItem]] = []
        corner = place.topLeft()
        for item in self._shown():
            size = item.sizeHint().boundedTo(QSize(max(place.width(), item.minimumSize().width()), 10_000))
            if line and corner.x() + size.width() > place.right() + 1:
                found += _middled(line)
                corner = QPoint(place.left(), max(box.bottom() for box, _ in line) + 1 + self.spacing())
                line = []
            line.append((QRect(corner, size), item))
            corner = QPoint(corner.x() + size.width() + self.spacing(), corner.y())
        return sorted(found + _middled(line), key=lambda one: one[0].bottom())


def _middled(line: list[tuple[QRect, QLayoutItem]]) -> list[tuple[QRect, QLayoutItem]]:
    tall = max((box.height() for box, _ in line), default=0)
    return [(box.translated(0, (tall - box.height()) // 2), item) for box, item in line]
