"""The frame: walk above, shelf left, figures in the middle, settings right, signal path below; for whatever steps."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QMainWindow, QPushButton, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from jiyuu.bench.walk import step_named
from jiyuu.book.store import Book
from jiyuu.desktop.custody import Custody
from jiyuu.desktop.ear_panel import EarPanel
from jiyuu.desktop.files import Files
from jiyuu.desktop.listening import Listening
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.menus import Menus
from jiyuu.desktop.remembered import in_hand, remember_window, remembered_letter, restored
from jiyuu.desktop.session import Session
from jiyuu.desktop.shelf import ShelfView
from jiyuu.desktop.signal_path import SignalPathView
from jiyuu.desktop.steps import view_of
from jiyuu.desktop.steps.reading import ReadAhead
from jiyuu.desktop.steps.step_view import StepView
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.desktop.tidings import Tidings
from jiyuu.desktop.walk import WalkView
from jiyuu.errors import JiyuuError

SHELF_WIDTH, FOLDED_WIDTH, SIDE_WIDTH, WIDEST_SIDE = 142, 52, 250, 420
FIRST_STEP = "response"


class MainWindow(QMainWindow):
    """One open book. Views are made when their step is first looked at, or ahead of that."""

    def __init__(self, book: Book) -> None:
        super().__init__()
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setAcceptDrops(True)
        self.setMinimumSize(960, 640)
        self.session = session = Session(book, self)
        self.measuring, self.listening, self.files = Measuring(session), Listening(session), Files(self)
        self.step = FIRST_STEP
        self._views: dict[str, StepView] = {}
        self._closing = False
        self._after: Callable[[], None] | None = None
        self._build_frame()
        self.custody = Custody(self.session, self.files.change_book, self)
        self.menus = Menus(self, self.files, self.custody)
        for speaker in (self.measuring, self.listening, self.files, self.custody, self.path.presenter):
            speaker.message.connect(self.say)
        self.measuring.busy.connect(self.tidings.show_busy)
        self.measuring.going.connect(self.tidings.show_going)
        self.tidings.cancelled.connect(self.cancel)
        for signal in (self.session.filter_changed, self.session.settings_changed, self.session.book_changed):
            signal.connect(self._show_states)
        self.session.crew.idle.connect(self._now_idle)
        THEME.dress(self)
        THEME.changed.connect(self._settle_widths)
        self.step = step if (step := restored(self)) in self.walk.stations else FIRST_STEP
        self.show_book()
        ReadAhead(self)

    # Building

    def _build_frame(self) -> None:
        self.walk, self.tidings = WalkView(), Tidings()
        self.figures, self.side = QStackedWidget(), QStackedWidget()
        self.shelf, self.path = ShelfView(self.session), SignalPathView(self.session, self.side)
        self.side_area = QScrollArea()
        self.side_area.setWidget(self.side)
        self.side_area.setWidgetResizable(True)
        self.side_area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.side_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.more = QPushButton("Add a filter …")
        self.more.setProperty("role", "page")
        left, middle, row = QVBoxLayout(), QVBoxLayout(), QHBoxLayout()
        for layout, between in ((left, 0), (middle, 0), (row, STEP)):
            layout.setContentsMargins(0, 0, 0, 0)
            layout.setSpacing(between)
        left.addWidget(self.shelf, 1)
        left.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        middle.addWidget(self.tidings)
        middle.addWidget(self.figures, 1)
        row.addLayout(left)
        row.addLayout(middle, 1)
        row.addWidget(self.side_area)
        self.ear = EarPanel(self.listening)
        below = QHBoxLayout()
        below.setContentsMargins(0, 0, STEP, 0)
        below.setSpacing(STEP)
        below.addWidget(self.path, 1)
        below.addWidget(self.ear)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.walk)
        column.addLayout(row, 1)
        column.addLayout(below)
        self.setCentralWidget(whole)
        self.walk.chosen.connect(self.go)
        self.shelf.chosen.connect(self.session.take)
        self.more.clicked.connect(lambda: self.files.choose_circuit())
        self.path.source_wanted.connect(lambda: self.go("setup"))

    def _settle_widths(self) -> None:
        """What stands beside the figures grows with the type and with the window, and folds where there is no room."""
        width, scale = self.width(), THEME.scale
        folded = SHELF_WIDTH * scale > 0.16 * width
        self.shelf.fold(folded)
        self.more.setVisible(not folded)
        self.shelf.setFixedWidth(round((FOLDED_WIDTH if folded else SHELF_WIDTH) * min(scale, 1.6)))
        widest = min(WIDEST_SIDE * scale, 0.36 * width)
        self.side_area.setFixedWidth(round(min(max(SIDE_WIDTH * scale, 0.195 * width), widest)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._settle_widths()

    # The walk

    def window_widget(self) -> QMainWindow:
        return self

    def view(self, key: str) -> StepView:
        """The view of a step, made when it is first asked for."""
        if key not in self._views:
            self._views[key] = view = view_of(step_named(key), self.session, self.measuring)
            view.presenter.message.connect(self.say)
            view.presenter.standing.connect(self.listening.follow)
            view.go.connect(self.go)
            self.figures.addWidget(view.figures)
            self.side.addWidget(view.side)
        return self._views[key]

    @property
    def shown(self) -> StepView:
        """The view of the step that is looked at."""
        return self.view(self.step)

    def go(self, key: str) -> None:
        """Show a step."""
        view = self.view(key)
        for other in self._views.values():
            if other is not view:
                other.presenter.sleep()
        self.step = key
        self.figures.setCurrentWidget(view.figures)
        self.side.setCurrentWidget(view.side)
        self.walk.show_step(key)
        self.menus.show_step(view)
        view.wake()

    def _show_states(self) -> None:
        self.walk.show_states(self.session.states())

    def cancel(self) -> None:
        """Call a measurement off; where none is under way, what is said goes."""
        if self.measuring.jobs.busy:
            self.measuring.cancel()
        else:
            self.tidings.clear()

    # What is said

    def say(self, text: str, error: bool = False) -> None:
        """Say something in place; an error stays until the next thing is said or Esc is pressed."""
        self.tidings.say(text, error=error)

    def undo(self) -> None:
        self._guarded_say(self.session.undo)

    def redo(self) -> None:
        self._guarded_say(self.session.redo)

    def _guarded_say(self, act: Callable[[], str]) -> None:
        try:
            self.say(act())
        except JiyuuError as error:
            self.say(str(error), error=True)

    # The book

    def show_book(self) -> None:
        """The open book's name, the filter that was in hand, or what to do with an empty one."""
        book = self.session.book
        self.setWindowTitle(f"Jiyuu: {book.path.name}" + (" (read only)" if book.read_only else ""))
        self.session.take_letter(remembered_letter(book.path))
        self._show_states()
        self.go(self.step)
        self.custody.book_shown()

    def book_opened(self) -> None:
        """Another book lies in the window."""
        self.menus.show_recent()
        self.show_book()

    def when_idle(self, then: Callable[[], None], what: str) -> None:
        """Calls everyone off and goes on when the last one has ended; says meanwhile what is being stopped."""
        self.listening.silence()
        for view in self._views.values():
            view.presenter.sleep()
        crew = self.session.crew
        crew.call_off()
        self._after = then
        if crew.busy:
            self.say(f"{what}: stopping {', '.join(crew.at_work())} …")
        else:
            self._now_idle()

    def _now_idle(self) -> None:
        then, self._after = self._after, None
        if then is not None:
            then()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        self.files.may_drop(event)

    def dropEvent(self, event: QDropEvent | None) -> None:
        self.files.drop(event)

    # Opening and closing

    def remember(self) -> None:
        """How the window stands, for the next start."""
        hand = self.session.in_hand
        letter = {} if hand is None else in_hand(self.session.book.path, hand.letter)
        remember_window(self, step=self.step, theme=THEME.palette.name, scale=THEME.scale, **letter)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        if not self._closing:
            self._closing = True
            self.remember()
            self.when_idle(self._end, "Closing")
        event.setAccepted(not self.session.crew.busy)

    def _end(self) -> None:
        """Nothing works any more: the book closes, and the window with it."""
        self.session.book.close()
        QTimer.singleShot(0, self.close)


def keep_focus_on_figure(window: MainWindow) -> None:
    """Keys work at once: the figure has the focus when the window opens."""
    (window.shown.main_figure or window.shown.figures).setFocus(Qt.FocusReason.OtherFocusReason)
