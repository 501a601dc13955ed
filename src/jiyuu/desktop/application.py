"""Starts the window: screen there? faces, theme, book, and a hook that shows an error instead of ending the program."""

from __future__ import annotations

import gc
import os
import signal
import sys
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from jiyuu.desktop.memory import give_back
from jiyuu.errors import JiyuuError

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QMainWindow

    from jiyuu.book.store import Book
    from jiyuu.desktop.window import MainWindow

INTERRUPT_MS = 250


def run(arguments: list[str]) -> int:
    """The desktop application; arguments: [], ['--demo'], [BOOK] or filter files. Returns the exit code."""
    _need_screen()
    give_back()
    with _uncollected():
        from PyQt6.QtGui import QIcon
        from PyQt6.QtWidgets import QApplication

        from jiyuu.desktop.remembered import remember_book, remembered_scale
        from jiyuu.desktop.steps.reading import MakeAhead
        from jiyuu.desktop.theme.style import THEME, load_faces
        from jiyuu.desktop.window import MainWindow, keep_focus_on_figure

        app = QApplication(["jiyuu"])
        app.setApplicationName("jiyuu")
        app.setDesktopFileName("jiyuu")
        app.setStyle("Fusion")
        load_faces()
        app.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "jiyuu.svg")))
        THEME.apply(_remembered_theme(), scale=remembered_scale())
    book = _book(arguments)
    remember_book(book.path)
    with _uncollected():
        gc.freeze()
        window = MainWindow(book)
        sys.excepthook = _excepthook(window)
        _end_on_interrupt(window)
        window.show()
        keep_focus_on_figure(window)
        MakeAhead(window)
    documents = [Path(name) for name in arguments if name.endswith((".filter.json", ".patch.json"))]
    if documents:
        window.files.open(documents)
    return int(app.exec())


@contextmanager
def _uncollected() -> Iterator[None]:
    """What is imported until the window is there stays for good: looking through it again and again takes a tenth of
    the time."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def _end_on_interrupt(window: QMainWindow) -> None:
    """Ctrl+C in the terminal closes the window as its own button does. The timer gives the interpreter, which alone
    may act on a signal, a turn now and then."""
    from PyQt6.QtCore import QTimer

    signal.signal(signal.SIGINT, lambda *_: window.close())
    turn = QTimer(window)
    turn.timeout.connect(lambda: None)
    turn.start(INTERRUPT_MS)


def _need_screen() -> None:
    """Say what is needed before the library ends the process."""
    if os.environ.get("QT_QPA_PLATFORM"):
        return
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        raise JiyuuError(
            "there is no screen (neither DISPLAY nor WAYLAND_DISPLAY is set); start it from a desktop session, or on a "
            "virtual screen with 'xvfb-run -a ./run demo'."
        )


def _remembered_theme() -> str:
    from PyQt6.QtCore import QSettings

    from jiyuu.inks import PALETTES

    name = str(QSettings("jiyuu", "jiyuu").value("theme", "paper"))
    return name if name in PALETTES else "paper"


def _book(arguments: list[str]) -> Book:
    """The one named, the demo where that is asked for, else the one opened last, and the demo at the very first."""
    from jiyuu.bench.demo_place import demo_book_path, prepare_demo_book
    from jiyuu.book.store import Book
    from jiyuu.desktop.remembered import recent_books

    if arguments and arguments[0].endswith(".jiyuu"):
        return Book.open(Path(arguments[0]))
    last = next((Path(name) for name in recent_books() if Path(name).is_file()), None)
    if last is not None and arguments != ["--demo"]:
        return Book.open(last)
    prepare_demo_book()
    return Book.open(demo_book_path())


def _excepthook(window: MainWindow) -> Callable[..., None]:
    def show(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        # A slot that raises would end the process; the person sees it, the log keeps the details.
        if isinstance(error, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        if not isinstance(error, JiyuuError):
            traceback.print_exception(kind, error, trace)
        text = str(error) if isinstance(error, JiyuuError) else f"Something went wrong inside: {error}"
        window.say(text, error=True)

    return show
