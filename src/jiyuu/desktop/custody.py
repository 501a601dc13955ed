"""Looks after the open book: what others write into it is shown, what does not read is said, each day has its copy."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.bench.demo_place import data_folder
from jiyuu.book.backup import back_up
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session

LOOK_MS = 1000  # between two looks whether somebody else has written
BACKUP_AFTER_MS = 20_000  # of being open, so that starting is not slower by it


class Custody(QObject):
    """One for a window, whatever book lies in it."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._jobs = Jobs(session.crew, "a backup copy", self)
        self._jobs.failed.connect(lambda text: self.message.emit(text, True))
        self._gone: str | None = None
        self._look, self._later = QTimer(self), QTimer(self)
        self._look.timeout.connect(self.look)
        self._look.start(LOOK_MS)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self.back_up_now)

    def book_shown(self) -> None:
        """Another book lies in the window."""
        session, self._gone = self._session, None
        if not session.book.read_only:
            self._later.start(BACKUP_AFTER_MS)
        if not session.shelf:
            self.message.emit("The book is empty. Drop a *.filter.json file on the window to put a filter on the "
                              "shelf.", False)
        unread = session.unread()
        if unread:
            more = "" if len(unread) == 1 else f" And {len(unread) - 1} more."
            self.message.emit(f"{unread[0].rstrip('.')}.{more} The rest is shown; 'jiyuu validate' names what is "
                              "damaged, 'jiyuu recover' makes a book without it.", True)

    def look(self) -> None:
        """Is the book still there? Has another window or program written into it?"""
        gone = self._session.book.gone()
        if gone != self._gone:
            self.message.emit(gone or "The book is in its place again.", gone is not None)
        self._gone = gone
        if self._session.book.changed_elsewhere():
            self._session.look_again()

    def back_up_now(self) -> None:
        """The copy of the day, off the interface thread, unless there is one."""
        path = self._session.book.path

        def steps() -> Iterator[Path]:
            yield from back_up(path, data_folder(), today=date.today().isoformat())

        self._jobs.start(steps)
