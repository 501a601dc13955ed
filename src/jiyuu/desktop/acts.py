"""Acts become menu entries and keys. Single letters act only where their effect is seen: in the figures of a step, and
in its list of findings; they can be changed or turned off."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QKeySequence, QShortcut
from PyQt6.QtWidgets import QMenu, QWidget

from jiyuu.desktop.remembered import keys_of, single_letters
from jiyuu.desktop.steps.step_view import Act

STANDARD = {
    "new": QKeySequence.StandardKey.New, "open": QKeySequence.StandardKey.Open, "quit": QKeySequence.StandardKey.Quit,
    "undo": QKeySequence.StandardKey.Undo, "redo": QKeySequence.StandardKey.Redo,
    "close": QKeySequence.StandardKey.Close, "larger": QKeySequence.StandardKey.ZoomIn,
    "smaller": QKeySequence.StandardKey.ZoomOut,
}


def is_letter(keys: str) -> bool:
    """Whether keys are a single character, which somebody may be typing."""
    return len(keys) == 1


def bindings(act: Act) -> list[QKeySequence]:
    """The keys of an act: the person's own, or the usual ones with all that the platform has for it."""
    own = keys_of(act.name, act.keys)
    found = [QKeySequence(own)] if own else []
    if own == act.keys and act.name in STANDARD:
        found += [keys for keys in QKeySequence.keyBindings(STANDARD[act.name]) if keys not in found]
    return found


def shown_keys(act: Act) -> str:
    """The keys in words: 'Ctrl+Z'."""
    return ", ".join(keys.toString(QKeySequence.SequenceFormat.NativeText) for keys in bindings(act))


def fill_menu(menu: QMenu, acts: Iterable[Act | None]) -> None:
    """None is a line between."""
    for act in acts:
        if act is None:
            menu.addSeparator()
            continue
        letter = is_letter(keys_of(act.name, act.keys))
        action = QAction(f"{act.text}\t{shown_keys(act)}" if letter else act.text, menu)
        if not letter:
            action.setShortcuts(bindings(act))
        action.triggered.connect(lambda _=False, do=act.do: do())
        menu.addAction(action)


def letter_keys(acts: Iterable[Act], places: Iterable[QWidget]) -> list[QShortcut]:
    """Shortcuts of single letters that act while one of the places, or something in it, has the focus."""
    made = []
    for act in acts:
        if not (is_letter(keys_of(act.name, act.keys)) and single_letters()):
            continue
        for place in places:
            shortcut = QShortcut(bindings(act)[0], place)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(act.do)
            made.append(shortcut)
    return made
