"""Starts the window: screen there? faces, theme, book, and a hook that shows an error instead of ending the program."""

from __future__ import annotations

import os
import sys
import traceback
from pathlib import Path
from types import TracebackType

from jiyuu.errors import JiyuuError


def run(arguments: list[str]) -> int:
    """The desktop application; arguments: [], ['--demo'] or [BOOK]. Returns the exit code."""
    _need_screen()
    from PyQt6.QtGui import QIcon
    from PyQt6.QtWidgets import QApplication

    from jiyuu.desktop.theme.style import THEME, load_faces
    from jiyuu.desktop.window import MainWindow, keep_focus_on_figure

    app = QApplication(["jiyuu"])
    app.setApplicationName("jiyuu")
    app.setDesktopFileName("jiyuu")
    app.setStyle("Fusion")
    load_faces()
    app.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "jiyuu.svg")))
    THEME.apply(_remembered_theme())
    window = MainWindow(_book(arguments))
    sys.excepthook = _excepthook(window)
    window.show()
    keep_focus_on_figure(window)
    return int(app.exec())


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

    from jiyuu.desktop.theme.palette import PALETTES

    name = str(QSettings("jiyuu", "jiyuu").value("theme", "paper"))
    return name if name in PALETTES else "paper"


def _book(arguments: list[str]):  # type: ignore[no-untyped-def]
    from jiyuu.book.store import Book

    if arguments and arguments[0] != "--demo":
        return Book.open(Path(arguments[0]))
    from jiyuu.book.demo_place import demo_book_path, prepare_demo_book

    prepare_demo_book()
    return Book.open(demo_book_path())


def _excepthook(window):  # type: ignore[no-untyped-def]
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
