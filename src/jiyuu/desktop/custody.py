"""Looks after the open book: what others write into it is shown, what does not read is said, each day has its copy."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QWidget

from jiyuu.bench.demo_place import data_folder
from jiyuu.book.backup import back_up, backups
from jiyuu.book.store import Book
from jiyuu.desktop.file_names import BOOKS, chosen_to_write
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.whole_file import written_whole

LOOK_MS = 1000  # between two looks whether somebody else has written
BACKUP_AFTER_MS = 20_000  # of being open, so that starting is not slower by it


class Custody(QObject):
    """One for a window, whatever book lies in it."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, change_book: Callable[[Book], None], parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._change_book, self._window = session, change_book, parent
        self._jobs = Jobs(session.crew, "a backup copy", self)
        self._exchanging = Jobs(session.crew, "taking a book apart or putting it together", self)
        self._exchanging.stepped.connect(self._exchanged)
        for jobs in (self._jobs, self._exchanging):
            jobs.failed.connect(lambda text: self.message.emit(text, True))
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

    # As open files, and back

    def choose_export(self) -> None:
        """Ask for a new folder's name and write the book there."""
        name, _ = QFileDialog.getSaveFileName(self._window, "Write the book as a folder of open files",
                                              self._session.book.path.stem, "Folders (*)")
        if name:
            self.export(Path(name))

    def export(self, folder: Path) -> None:
        """JSON, CSV and WAV of everything in the book."""
        path = self._session.book.path

        def steps() -> Iterator[object]:
            from jiyuu.book.exchange import export_book

            book = Book.open(path, reading=True)
            try:
                export_book(book, folder)
            finally:
                book.close()
            yield f"{folder} holds the whole book as open files; 'Open a folder' makes it a book again."

        self._session.book.settle()
        self._exchanging.start(steps)

    def choose_folder(self) -> None:
        """Ask for a folder of open files, and for the name of the book that is made of it."""
        folder = QFileDialog.getExistingDirectory(self._window, "Open a folder of open files")
        if folder:
            self._asked_for_book(f"{Path(folder).name}.jiyuu", lambda path: self.put_together(Path(folder), path))

    def put_together(self, folder: Path, path: Path) -> None:
        """The book that a folder holds, opened."""
        def steps() -> Iterator[object]:
            from jiyuu.book.exchange import import_book

            yield import_book(folder, path)

        self._exchanging.start(steps)

    def choose_copy(self) -> None:
        """Ask for the day of a copy, and for the name under which it is opened."""
        there = backups(self._session.book.path, data_folder())
        if not there:
            self.message.emit("There is no copy of this book yet; one is made on each day on which it is changed.",
                              False)
            return
        day, sure = QInputDialog.getItem(self._window, "Open an earlier copy", "As it was on",
                                         [one.stem for one in there], editable=False)
        if sure:
            copy = next(one for one in there if one.stem == day)
            self._asked_for_book(f"{self._session.book.path.stem} {day}.jiyuu", lambda path: self.open_copy(copy, path))

    def open_copy(self, copy: Path, path: Path) -> None:
        """A book of its own made of a copy, which stays as it is."""
        def steps() -> Iterator[object]:
            with written_whole(path, inputs=[copy, self._session.book.path]) as unfinished:
                shutil.copyfile(copy, unfinished)
            yield Book.open(path)

        self._exchanging.start(steps)

    def _asked_for_book(self, suggested: str, then: Callable[[Path], None]) -> None:
        try:
            path = chosen_to_write(self._window, "New book", suggested, BOOKS, ending=".jiyuu")
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        if path is not None:
            then(path)

    def _exchanged(self, found: Book | str) -> None:
        if isinstance(found, Book):
            self._change_book(found)
        else:
            self.message.emit(found, False)
