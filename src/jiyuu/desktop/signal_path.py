"""The signal path at the foot of the window, and in the side column what is chosen in it."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import QScrollArea, QStackedWidget, QWidget

from jiyuu.desktop.path.panel import StagePanel
from jiyuu.desktop.path.presenter import PathPresenter
from jiyuu.desktop.path.strip import PathStrip
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import THEME

MOST_LANES = 4  # in sight at once


class SignalPathView(QScrollArea):
    """side: the stack of the steps' side columns, over which the chosen stage is laid until the person goes back."""

    source_wanted = pyqtSignal()

    def __init__(self, session: Session, side: QStackedWidget) -> None:
        super().__init__()
        self.presenter = PathPresenter(session)
        self.strip, self.panel = PathStrip(self.presenter), StagePanel(self.presenter)
        self._side = side
        self._beneath: QWidget | None = None
        side.addWidget(self.panel)
        side.currentChanged.connect(self._side_changed)
        self.setWidget(self.strip)
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.presenter.changed.connect(self._show)
        THEME.changed.connect(self._show)
        self.strip.set_wanted.connect(self._to_fields)
        self.strip.add_wanted.connect(self._to_add)
        self.panel.back.connect(self.leave)
        self.panel.source_wanted.connect(self.source_wanted)
        self._show()

    def sizeHint(self) -> QSize:
        return self.strip.sizeHint()

    def minimumSizeHint(self) -> QSize:
        return QSize(320, self.strip.sizeHint().height())

    def leave(self) -> None:
        """The step's own side column again."""
        self.presenter.choose(None)
        self.strip.setFocus()

    def _show(self) -> None:
        wanted = self.strip.sizeHint()
        wide = wanted.width() > max(self.viewport().width(), 1) if self.isVisible() else False  # type: ignore[union-attr]
        bar = self.horizontalScrollBar()
        more = bar.sizeHint().height() if wide and bar is not None else 0
        self.setFixedHeight(wanted.height() + more)
        self.setAccessibleName("Signal path")
        self.setAccessibleDescription(self.strip.accessibleDescription())
        if self.presenter.chosen is None:
            if self._side.currentWidget() is self.panel and self._beneath is not None:
                self._side.setCurrentWidget(self._beneath)
            return
        if self._side.currentWidget() is not self.panel:
            self._beneath = self._side.currentWidget()
        self.panel.refresh()
        self._side.setCurrentWidget(self.panel)
        spot = self.strip.rect_of(self.presenter.chosen)
        self.ensureVisible(spot.center().x(), spot.center().y(), spot.width() // 2 + 8, 0)

    def _side_changed(self) -> None:
        """Another step was gone to."""
        if self._side.currentWidget() is not self.panel and self.presenter.chosen is not None:
            self._beneath = self._side.currentWidget()
            self.presenter.choose(None)

    def _to_fields(self) -> None:
        if self.panel.first is not None and self.presenter.chosen is not None:
            self.panel.first.setFocus()

    def _to_add(self) -> None:
        if self.presenter.chosen is None:
            self.presenter.step_along(1)
        self.panel.add.showMenu()
