"""A stack whose pages are made when they are first opened: most of them are not looked at in most sessions."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QStackedWidget, QWidget


class LaterPages(QStackedWidget):
    """In the order of their makers; the first one is open, and made at once."""

    def __init__(self, *makers: Callable[[], QWidget]) -> None:
        super().__init__()
        self._makers: dict[int, Callable[[], QWidget]] = dict(enumerate(makers))
        for _ in makers:
            self.addWidget(QWidget())
        self.setCurrentIndex(0)

    def setCurrentIndex(self, index: int) -> None:
        self._make(index)
        super().setCurrentIndex(index)

    @property
    def made(self) -> list[QWidget]:
        """Pages that were opened so far."""
        pages = (self.widget(i) for i in range(self.count()) if i not in self._makers)
        return [page for page in pages if page is not None]

    def _make(self, index: int) -> None:
        make = self._makers.pop(index, None)
        if make is None:
            return
        page, held = make(), self.widget(index)
        assert held is not None
        self.insertWidget(index, page)
        self.removeWidget(held)
        held.deleteLater()
