"""A real window on a book of its own; a check that no window outlives a test, nor what works for it."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from jiyuu.bench.demo import write_demo_book
from jiyuu.bench.steps.resonance import ResonanceStep
from jiyuu.bench.steps.response import ResponseStep
from jiyuu.book.store import Book
from jiyuu.desktop.remembered import window_state
from jiyuu.desktop.theme.style import FACE, THEME, load_faces
from jiyuu.desktop.window import MainWindow, keep_focus_on_figure
from jiyuu.rig.drive_run import LEVELS_DB
from tests.benching import listen_briefly


@pytest.fixture(scope="session")
def faces(qapp):
    """The shipped typeface and the style, once."""
    qapp.setStyle("Fusion")
    load_faces()


@pytest.fixture(autouse=True)
def own_settings(tmp_path, qapp, faces, monkeypatch) -> Iterator[None]:
    """Window state, recent books and the application's own data of this test only."""
    monkeypatch.setenv("JIYUU_DATA_DIR", str(tmp_path / "own-data"))
    QSettings.setDefaultFormat(QSettings.Format.IniFormat)
    for format_ in (QSettings.Format.IniFormat, QSettings.Format.NativeFormat):
        QSettings.setPath(format_, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    QSettings("jiyuu", "jiyuu").clear()
    if THEME.palette.name != "paper" or THEME.scale != 1.0 or qapp.font().family() != FACE:
        THEME.apply("paper", scale=1.0)
    yield
    assert [widget for widget in qapp.topLevelWidgets() if isinstance(widget, MainWindow)] == []


@pytest.fixture(autouse=True)
def brisk(monkeypatch):
    """Sweeps that are over soon and coarse maps: what is shown and kept is tried here, not how precise it is."""
    def sooner(step, name, most):
        usual = step.request

        def request(self, standing, setting):
            return usual(self, standing, setting.changed(**{name: min(getattr(setting, name), most)}))

        monkeypatch.setattr(step, "request", request)

    sooner(ResponseStep, "sweep_s", 1.5)
    sooner(ResonanceStep, "positions", 6)
    monkeypatch.setattr("jiyuu.rig.drive_run.LEVELS_DB", LEVELS_DB[::2])
    monkeypatch.setattr("jiyuu.prediction.drive_study.MAP_SIDE", 12)
    monkeypatch.setattr("jiyuu.prediction.drive_study.STEPS", 256)
    listen_briefly(monkeypatch)


@pytest.fixture(scope="session")
def unmeasured(tmp_path_factory):
    path = tmp_path_factory.mktemp("demo") / "fog-voices.jiyuu"
    write_demo_book(path, measured=False)
    return path


@pytest.fixture
def book_path(unmeasured, tmp_path):
    return Path(shutil.copy(unmeasured, tmp_path))


@pytest.fixture
def open_window(qtbot):
    """Opens windows as the application does; closes what the test left open."""
    opened: list[MainWindow] = []

    def make(path) -> MainWindow:
        window = MainWindow(Book.open(path))
        window.resize(1280, 800)
        window.show()
        keep_focus_on_figure(window)
        qtbot.waitExposed(window)
        QApplication.processEvents()
        opened.append(window)
        return window

    yield make
    for window in opened:
        if not sip.isdeleted(window):
            window.close()
    qtbot.waitUntil(lambda: all(sip.isdeleted(window) for window in opened), timeout=30_000)


@pytest.fixture
def window(open_window, book_path, request) -> MainWindow:
    """Opened at the step that a module's OPENS_AT names, as if it had been left there: the others' figures are not
    drawn first."""
    step = getattr(request.module, "OPENS_AT", None)
    if step is not None:
        window_state().setValue("step", step)
    return open_window(book_path)
