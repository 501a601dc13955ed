"""What the application remembers from one start to the next: the window's state, the books opened last, preferences."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QMainWindow

MOST_BOOKS = 8


def window_state() -> QSettings:
    """Where it is remembered."""
    return QSettings("jiyuu", "jiyuu")


def restored(window: QMainWindow) -> str:
    """Size and place of the window as it was left; the step that was looked at, '' where none was."""
    state = window_state()
    geometry = state.value("geometry")
    if geometry is not None:
        window.restoreGeometry(geometry)
    else:
        window.resize(1280, 800)
    return str(state.value("step", ""))


def remember_window(window: QMainWindow, **how: str | float) -> None:
    """Its size and place, and how it stands."""
    state = window_state()  # written when it is let go of: once, not once a value
    for name, value in {"geometry": window.saveGeometry(), **how}.items():
        state.setValue(name, value)


def recent_books() -> list[str]:
    """Newest first."""
    found = window_state().value("recent", [])
    return [found] if isinstance(found, str) else list(found or [])


def remember_book(path: Path) -> None:
    window_state().setValue("recent", [str(path), *(name for name in recent_books() if name != str(path))][:MOST_BOOKS])


def remembered_letter(path: Path) -> str:
    """Of the filter that was in hand when a book was looked at last."""
    return str(window_state().value(f"in_hand/{path.name}", ""))


def in_hand(path: Path, letter: str) -> dict[str, str]:
    """As `remember_window` is told it."""
    return {f"in_hand/{path.name}": letter}


def remembered_scale() -> float:
    """Of the type; 1 where nothing or nonsense is remembered."""
    try:
        return float(window_state().value("scale", 1.0))
    except (TypeError, ValueError):
        return 1.0


def single_letters() -> bool:
    """Whether single letters act in the figures."""
    return str(window_state().value("single_letters", "true")).lower() != "false"


def keys_of(name: str, usual: str) -> str:
    """The keys of an act as the person set them, or the usual ones."""
    return str(window_state().value(f"keys/{name}", usual))


def set_keys(name: str, keys: str | None) -> None:
    """None goes back to the usual ones."""
    if keys is None:
        window_state().remove(f"keys/{name}")
    else:
        window_state().setValue(f"keys/{name}", keys)
