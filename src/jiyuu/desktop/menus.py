"""The menus of the window: every act with its keys."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from jiyuu.book.walk import STEPS

if TYPE_CHECKING:
    from jiyuu.desktop.window import MainWindow

SHELF_KEYS = "ABCDEF"


def build_menus(window: MainWindow) -> QMenu:
    """Fills the window's menu bar; returns the menu of recent books, which changes."""
    bar = window.menuBar()
    assert bar is not None
    book, edit, view, walk, help_menu = (
        bar.addMenu(name) for name in ("&Book", "&Edit", "&View", "&Walk", "&Help")
    )
    assert book is not None
    add_act(book, "&New book …", QKeySequence.StandardKey.New, window.new_book)
    add_act(book, "&Open …", QKeySequence.StandardKey.Open, window.open_book)
    recent = book.addMenu("&Recent books")
    assert recent is not None
    add_act(book, "&Add a filter …", "Ctrl+F", window.choose_circuit)
    add_act(book, "Measure a &pair of recordings …", "Ctrl+P", window.choose_pair)
    add_act(book, "Save &figure …", QKeySequence.StandardKey.Save, window.save_figure)
    add_act(book, "Save &sound …", "Ctrl+L", window.save_sound)
    add_act(book, "&Quit", QKeySequence.StandardKey.Quit, window.close)
    add_act(edit, "&Undo", QKeySequence.StandardKey.Undo, window.undo)
    add_act(edit, "&Redo", "Ctrl+Shift+Z", window.redo)
    add_act(edit, "&Play or stop", "P", window.listening.toggle)
    add_act(edit, "&Measure", "M", window.measure)
    add_act(edit, "Cancel measurement", "Esc", window.cancel)
    add_act(edit, "&Keep finding", "K", window.keep)
    add_act(edit, "Set &neutral", "N", window.setup_presenter.set_neutral)
    add_act(edit, "&Turn trims as advised", "T", window.tracking_presenter.turn_as_advised)
    add_act(edit, "&Do the whole walk", "Ctrl+W", window.walking.start)
    add_act(edit, "&Band of 1000 builds", "B", window.response.band.toggle)
    add_act(edit, "&One mode or all", "O", window.response.only.toggle)
    add_act(edit, "&Copy figure", "Ctrl+Shift+C", lambda: window.main_figure().copy_picture())
    add_act(view, "&Paper or night", "Ctrl+T", window.turn_theme)
    add_act(view, "&Larger type", QKeySequence.StandardKey.ZoomIn, lambda: window.scale_type(1.1))
    add_act(view, "&Smaller type", QKeySequence.StandardKey.ZoomOut, lambda: window.scale_type(1 / 1.1))
    for number, step in enumerate(STEPS, start=1):
        add_act(walk, step, f"Ctrl+{number % 10}", lambda name=step: window.go(name))
    for i, letter in enumerate(SHELF_KEYS):
        add_act(walk, f"Filter {letter}", f"Alt+{i + 1}", lambda index=i: window.session.take(index))
    add_act(help_menu, "&Keys", "F1", window.show_keys)
    return recent


def add_act(menu: QMenu | None, text: str, keys: object, do: Callable[..., object]) -> QAction:
    """One act with its shortcut."""
    assert menu is not None
    action = menu.addAction(text)
    assert action is not None
    action.setShortcut(QKeySequence(keys))
    action.triggered.connect(lambda _=False: do())
    return action
