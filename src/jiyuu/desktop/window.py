"""The frame: walk above, shelf left, figures in the middle, settings and findings right, signal path below."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from jiyuu.book.store import Book
from jiyuu.book.walk import STEPS
from jiyuu.circuits.filter_file import Filter, neutral_filter, read_filter
from jiyuu.desktop.bench.logbook.view import LogbookView
from jiyuu.desktop.bench.not_built import NotBuiltView
from jiyuu.desktop.bench.oscillation.presenter import OscillationPresenter
from jiyuu.desktop.bench.oscillation.view import OscillationView
from jiyuu.desktop.bench.resonance.presenter import ResonancePresenter
from jiyuu.desktop.bench.resonance.view import ResonanceView
from jiyuu.desktop.bench.response.presenter import ResponsePresenter
from jiyuu.desktop.bench.response.view import ResponseView
from jiyuu.desktop.bench.setup.presenter import SetupPresenter
from jiyuu.desktop.bench.setup.view import SetupView
from jiyuu.desktop.bench.setup.walking import Walking
from jiyuu.desktop.bench.tracking.presenter import TrackingPresenter
from jiyuu.desktop.bench.tracking.view import TrackingView
from jiyuu.desktop.circuit_chooser import CircuitChooser
from jiyuu.desktop.ear_panel import EarPanel
from jiyuu.desktop.figures.ruled import RuledFigure
from jiyuu.desktop.help import KeysWindow
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.listening import Listening
from jiyuu.desktop.menus import add_act, build_menus
from jiyuu.desktop.notice import Notice
from jiyuu.desktop.remembered import recent_books, remember_book, window_state
from jiyuu.desktop.session import Session
from jiyuu.desktop.shelf import ShelfView
from jiyuu.desktop.signal_path import SignalPathView
from jiyuu.desktop.sound_file import SoundFile
from jiyuu.desktop.theme.style import STEP, THEME
from jiyuu.desktop.walk import WalkView
from jiyuu.errors import JiyuuError

Sleeper = SetupPresenter | ResonancePresenter | OscillationPresenter | TrackingPresenter
FIGURED = SetupView | ResonanceView | OscillationView | TrackingView
SHELF_WIDTH, SIDE_WIDTH = 142, 244
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


class StepView(Protocol):
    """What the frame needs of a step: its figures and its side column."""

    @property
    def figures(self) -> QWidget: ...

    @property
    def side(self) -> QWidget: ...

    def restyle(self) -> None: ...


class MainWindow(QMainWindow):
    """One open book."""

    def __init__(self, book: Book) -> None:
        super().__init__()
        self.session = Session(book)
        self.setWindowTitle(f"Jiyuu: {book.path.name}" + (" (read only)" if book.read_only else ""))
        self.setAcceptDrops(True)
        self.setMinimumSize(1024, 680)
        self.presenter = ResponsePresenter(self.session)
        self.response = ResponseView(self.presenter)
        self.logbook = LogbookView(self.session)
        self.setup_presenter = SetupPresenter(self.session)
        self.setup = SetupView(self.setup_presenter)
        self.walking = Walking(self.session, self.setup.plan)
        self.resonance_presenter = ResonancePresenter(self.session)
        self.resonance = ResonanceView(self.resonance_presenter)
        self.oscillation_presenter = OscillationPresenter(self.session)
        self.oscillation = OscillationView(self.oscillation_presenter)
        self.sound = SoundFile(self.session)
        self.listening = Listening(self.session)
        self.tracking_presenter = TrackingPresenter(self.session)
        self.tracking = TrackingView(self.tracking_presenter)
        built: dict[str, StepView] = {
            "Setup": self.setup, "Response": self.response, "Resonance": self.resonance,
            "Self-oscillation": self.oscillation, "Tracking": self.tracking, "Logbook": self.logbook,
        }
        self.views = {step: built.get(step) or NotBuiltView(step) for step in STEPS}
        self._build_frame()
        self._recent = build_menus(self)
        steps = (presenter for _, presenter in self._sleepers())
        for speaker in (self.presenter, self.walking, self.sound, self.listening, *steps):
            speaker.message.connect(self.say)
        self.setup.plan.go.connect(self.go)
        self.session.filter_changed.connect(self._show_states)
        self.session.settings_changed.connect(self._show_states)
        self.session.book_changed.connect(self._show_states)
        THEME.changed.connect(self._restyle)
        self._restore()
        self.presenter.refresh()
        self._show_states()

    # Building

    def _build_frame(self) -> None:
        self.walk = WalkView()
        self.shelf = ShelfView(self.session)
        self.shelf.setFixedWidth(SHELF_WIDTH)
        self.path = SignalPathView(self.session)
        self.figures, self.side = QStackedWidget(), QStackedWidget()
        self.side.setFixedWidth(SIDE_WIDTH)
        for view in self.views.values():
            self.figures.addWidget(view.figures)
            self.side.addWidget(view.side)
        self.notice = Notice()
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(STEP)
        middle.addWidget(self.notice)
        middle.addWidget(self.figures, 1)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(STEP)
        more = QPushButton("Add a filter …")
        more.setProperty("role", "page")
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addWidget(self.shelf, 1)
        left.addWidget(more, 0, Qt.AlignmentFlag.AlignLeft)
        row.addLayout(left)
        row.addLayout(middle, 1)
        row.addWidget(self.side)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.walk)
        column.addLayout(row, 1)
        below = QHBoxLayout()
        below.setContentsMargins(0, 0, STEP, 0)
        below.setSpacing(STEP)
        below.addWidget(self.path, 1)
        self.ear = EarPanel(self.listening)
        below.addWidget(self.ear)
        column.addLayout(below)
        self.setCentralWidget(whole)
        self.walk.chosen.connect(self.go)
        self.shelf.chosen.connect(self.session.take)
        more.clicked.connect(self.choose_circuit)

    # The walk

    def go(self, step: str) -> None:
        """Show a step."""
        view = self.views[step]
        self.figures.setCurrentWidget(view.figures)
        self.side.setCurrentWidget(view.side)
        self.walk.show_step(step)
        self.step = step
        for name, presenter in self._sleepers():
            presenter.wake() if name == step else presenter.sleep()

    def _sleepers(self) -> list[tuple[str, Sleeper]]:
        """The presenters that work only while their step is looked at."""
        return [("Setup", self.setup_presenter), ("Resonance", self.resonance_presenter),
                ("Self-oscillation", self.oscillation_presenter), ("Tracking", self.tracking_presenter)]

    def workers(self) -> list[Jobs]:
        """Everything that computes off the interface thread."""
        measuring = [presenter.measuring.jobs for _, presenter in self._sleepers()]
        return [self.presenter.jobs, self.presenter.previews.jobs, self.resonance_presenter.jobs, self.walking.jobs,
                self.sound.jobs, self.listening.jobs, self.oscillation_presenter.jobs,
                self.oscillation_presenter.patch_jobs, *measuring]

    def _measurer(self) -> Sleeper | ResponsePresenter:
        """Whoever measures in the step that is looked at."""
        return next((presenter for step, presenter in self._sleepers() if step == self.step), self.presenter)

    def measure(self) -> None:
        self._measurer().measure()

    def cancel(self) -> None:
        self._measurer().cancel()
        self.walking.cancel()

    def main_figure(self) -> RuledFigure:
        view = self.views[self.step]
        return view.main_figure if isinstance(view, FIGURED) else self.response.level

    step, _closed = "Response", False

    def _show_states(self) -> None:
        states = self.session.states()
        self.walk.show_states(states)
        self.setup.plan.show_states(states)

    # Messages

    def say(self, text: str, error: bool = False) -> None:
        """Say something in place; an error stays until the next thing is said or Esc is pressed."""
        self.notice.say(text, error=error)

    def _guarded(self, do: object, *arguments: object) -> None:
        try:
            do(*arguments)  # type: ignore[operator]
        except JiyuuError as error:
            self.say(str(error), error=True)

    # Acts

    def undo(self) -> None:
        if self.session.undo() is None:
            self.say("There is nothing to undo.")
        else:
            self.presenter.refresh()

    def redo(self) -> None:
        if self.session.redo() is None:
            self.say("There is nothing to redo.")
        else:
            self.presenter.refresh()

    def keep(self) -> None:
        view = self.views[self.step]
        if isinstance(view, LogbookView | FIGURED):
            view.keep_current()
        else:
            self.response.keep_current()

    def _restyle(self) -> None:
        self.shelf.refresh()
        for view in self.views.values():
            view.restyle()

    def turn_theme(self) -> None:
        THEME.apply("night" if THEME.palette.name == "paper" else "paper")

    def scale_type(self, factor: float) -> None:
        THEME.apply(THEME.palette.name, scale=THEME.scale * factor)

    def show_keys(self) -> None:
        self._keys = KeysWindow(self)
        self._keys.show()

    # Files

    def new_book(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "New book", "", "Books (*.jiyuu)")
        if name:
            path = Path(name).with_suffix(".jiyuu")
            self._guarded(lambda: self.change_book(Book.create(path)))

    def open_book(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open book", "", "Books (*.jiyuu)")
        if name:
            self.open_files([Path(name)])

    def choose_pair(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Stimulus and recording", "", "Recordings (*.wav *.flac)")
        if names:
            self.open_files([Path(name) for name in names])

    def save_figure(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save figure", "response.svg", "Figures (*.svg *.png *.csv)")
        if name:
            self._guarded(self.main_figure().save, Path(name))

    def save_sound(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save what it sounds like", "filter.wav", "Sounds (*.wav)")
        if name:
            self.sound.write(Path(name).with_suffix(".wav"), self.listening.what)

    def change_book(self, book: Book) -> None:
        """Another book into this window."""
        self.listening.silence()
        for jobs in self.workers():
            jobs.wait()
        old = self.session.book
        self.session.book = book
        self.setWindowTitle(f"Jiyuu: {book.path.name}" + (" (read only)" if book.read_only else ""))
        self.session.take(0)
        self.session.reload_shelf()
        self.session.book_changed.emit()
        old.close()
        self._remember(book.path)
        if not self.session.shelf:
            self.say("The book is empty. Drop a *.filter.json file on the window to put a filter on the shelf.")

    def open_files(self, paths: list[Path]) -> None:
        """Files dropped or chosen: a book, filter files, or a stimulus with its recording."""
        endings = {path.suffix.lower() for path in paths}
        if endings == {".jiyuu"} and len(paths) == 1:
            self._guarded(lambda: self.change_book(Book.open(paths[0])))
        elif endings == {".json"}:
            for path in paths:
                self._guarded(self._add_filter, path)
        elif endings == {".csv"} and len(paths) == 1:
            self.go("Response")
            self._guarded(self.presenter.read_table, paths[0])
        elif endings <= {".wav", ".flac"} and len(paths) == 2:
            self.go("Response")
            self._guarded(self.presenter.measure_files, paths[0], paths[1])
        elif endings <= {".wav", ".flac"} and len(paths) == 1 and self.step == "Tracking":
            self._guarded(self.tracking_presenter.read_recording, paths[0])
        elif endings <= {".wav", ".flac"}:
            self.say("Drop two files together: the stimulus that was played and the recording of it.", error=True)
        else:
            names = ", ".join(path.name for path in paths)
            self.say(
                f"{names}: nothing to be done with that here. Drop a book (*.jiyuu), a filter (*.filter.json), a "
                "stimulus with its recording (WAV or FLAC), or a curve (CSV: Hz, dB, degrees).", error=True,
            )

    def _add_filter(self, path: Path) -> None:
        self._shelve(read_filter(path))

    def choose_circuit(self) -> None:
        self._chooser = CircuitChooser(self)
        self._chooser.chosen.connect(lambda name: self._guarded(self._shelve, neutral_filter(name)))
        self._chooser.show()

    def _shelve(self, document: Filter) -> None:
        used = {shelved.letter for shelved in self.session.shelf}
        free = [letter for letter in LETTERS if letter not in used]
        if not free:
            raise JiyuuError("The shelf is full (A to Z); start a new book for more filters.")
        self.session.book.add_filter(free[0], document, seed=1)
        self.session.reload_shelf()
        self.session.take(len(self.session.shelf) - 1)
        self.say(f"{document.name} stands on the shelf as {free[0]}.")

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        assert event is not None
        mime = event.mimeData()
        if mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        mime = event.mimeData()
        if mime is not None:
            event.acceptProposedAction()
            self.open_files([Path(url.toLocalFile()) for url in mime.urls() if url.isLocalFile()])

    # Remembering

    def _remember(self, path: Path) -> None:
        remember_book(path)
        assert self._recent is not None
        self._recent.clear()
        for name in recent_books():
            add_act(self._recent, name, "", lambda path=name: self.open_files([Path(path)]))

    def _restore(self) -> None:
        settings = window_state()
        geometry = settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)
        step = settings.value("step", "Response")
        self.go(step if step in self.views else "Response")
        self._remember(self.session.book.path)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if self._closed:
            return
        self._closed = True
        self.listening.silence()
        for _, presenter in self._sleepers():
            presenter.sleep()  # no pause may end on a closed book
        for jobs in self.workers():
            jobs.wait()
        THEME.changed.disconnect(self._restyle)  # the theme outlives the window and its book
        settings = window_state()
        settings.setValue("geometry", self.saveGeometry())
        settings.setValue("step", self.step)
        settings.setValue("theme", THEME.palette.name)
        self.session.book.close()
        super().closeEvent(event)


def keep_focus_on_figure(window: MainWindow) -> None:
    """Keys work at once: the figure has the focus when the window opens."""
    window.response.level.setFocus(Qt.FocusReason.OtherFocusReason)
