"""What the application remembers from one start to the next: the window's state and the books opened last."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings

MOST_BOOKS = 8


def window_state() -> QSettings:
    """Where it is remembered."""
    return QSettings("jiyuu", "jiyuu")


def recent_books() -> list[str]:
    """Newest first."""
    found = window_state().value("recent", [])
    return [found] if isinstance(found, str) else list(found or [])


def remember_book(path: Path) -> None:
    window_state().setValue("recent", [str(path), *(name for name in recent_books() if name != str(path))][:MOST_BOOKS])
