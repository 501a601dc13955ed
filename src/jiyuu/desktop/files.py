"""Files of the window: books, filters, recordings, curves, sounds; opened, dropped, written."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog

from jiyuu.bench.patched import patch_of, taken
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import Filter, neutral_filter, read_filter
from jiyuu.desktop.circuit_chooser import CircuitChooser
from jiyuu.desktop.curve_preview import Curves
from jiyuu.desktop.file_names import BOOKS, chosen_to_write, completed
from jiyuu.desktop.frame import Frame
from jiyuu.desktop.recordings_chooser import Recordings, RecordingsChooser, RecordingsFor
from jiyuu.desktop.remembered import remember_book
from jiyuu.desktop.reporting import Reporting
from jiyuu.desktop.sound_file import SoundFile
from jiyuu.desktop.stored_settings import StoredSettings
from jiyuu.errors import JiyuuError
from jiyuu.patch.file_kind import is_patch
from jiyuu.patch.reading import read_patch, write_patch

CURVES = "Curves (*.csv *.txt *.tsv *.dat)"
PICTURES, RECORDINGS = {".png", ".jpg", ".jpeg"}, {".wav", ".flac"}
SOUNDS, PATCHES = "Sounds (*.wav)", "Patches (*.json)"
NOTHING = ("nothing to be done with that here. Drop a book (*.jiyuu), a filter or patch (*.filter.json, *.patch.json), "
           "a stimulus with its recording (WAV or FLAC), a curve (CSV: Hz, dB, degrees), or a picture for the logbook.")


def _file_name(text: str) -> str:
    """What of a name a file may be called."""
    return "".join(sign if sign.isalnum() or sign in " -_" else "-" for sign in text).strip() or "patch"


class Files(QObject):
    """Everything a person opens, drops or saves, besides figures."""

    message = pyqtSignal(str, bool)

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame.window_widget())
        self._frame, self._window = frame, frame.window_widget()
        self.chooser: CircuitChooser | None = None
        self.recordings: RecordingsChooser | None = None
        self.sound = SoundFile(frame.session)
        self.sound.message.connect(self.message)
        self.reporting = Reporting(frame.session, self._window)
        self.stored = StoredSettings(frame.session, self._window)
        self.curves = Curves(self._window, lambda path, layout: self._takes("read_table")(path, layout))
        for speaker in (self.reporting, self.stored, self.curves):
            speaker.message.connect(self.message)

    def _guarded(self, do: Callable[[], object]) -> None:
        try:
            do()
        except JiyuuError as error:
            self.message.emit(str(error), True)

    # Books

    def new_book(self) -> None:
        """A new, empty one, at a name that is free."""
        name, _ = QFileDialog.getSaveFileName(self._window, "New book", "", BOOKS,
                                              options=QFileDialog.Option.DontConfirmOverwrite)
        if name:
            self._guarded(lambda: self.change_book(Book.create(completed(Path(name), ".jiyuu", BOOKS))))

    def open_book(self) -> None:
        """One that is there already."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Open book", "", BOOKS)
        if name:
            self.open([Path(name)])

    def change_book(self, book: Book) -> None:
        """Another book into this window, once nobody works on the old one any more."""
        self._frame.remember()

        def change() -> None:
            self._frame.session.open(book)
            remember_book(book.path)
            self._frame.book_opened()

        self._frame.when_idle(change, f"Opening {book.path.name}")

    # Filters

    def choose_circuit(self) -> None:
        """Another filter from the catalogue."""
        if self.chooser is None:
            self.chooser = CircuitChooser(self._window)
            self.chooser.chosen.connect(lambda name: self._guarded(lambda: self._shelve(neutral_filter(name))))
        self.chooser.bring()

    def _shelve(self, document: Filter, kept: Mapping[str, object] | None = None) -> None:
        letter = self._frame.session.shelve(document, kept)
        self.message.emit(f"{document.name} stands on the shelf as {letter}.", False)

    def _shelve_all(self, paths: list[Path]) -> None:
        for path in paths:
            if is_patch(str(path)):
                found = taken(read_patch(path)[0])
                self._shelve(found.document, found.kept)
            else:
                self._shelve(read_filter(path))

    def save_patch(self) -> None:
        """The filter in hand with everything round it, as a patch file."""
        def save() -> None:
            standing = self._frame.session.standing()
            patch = patch_of(standing, standing.document.name)
            path = chosen_to_write(self._window, "Save the patch", f"{_file_name(patch.name)}.patch.json", PATCHES,
                                   ending=".patch.json")
            if path is not None:
                write_patch(path, patch)
                self.message.emit(f"{path.name} holds the filter in hand with its path, sources and controls.", False)

        self._guarded(save)

    def put_filter_away(self) -> None:
        """The filter in hand off the shelf; nothing measured of it is lost."""
        letter = self._frame.session.put_away()
        if letter is None:
            self.message.emit("There is no filter on the shelf.", False)
        else:
            self.message.emit(f"{letter} is off the shelf, its runs stay in the book; Ctrl+Z puts it back.", False)

    # Recordings and sounds

    def choose_recordings(self) -> None:
        """A stimulus and its recording, or a whistle over steps; with what they need to be read rightly."""
        if self.recordings is None:
            self.recordings = RecordingsChooser(self._window, self._frame.session.crew)
            self.recordings.chosen.connect(self._measure_recordings)
        steps = hasattr(self._frame.shown.presenter, "read_recording")
        self.recordings.ask(RecordingsFor.STEPS if steps else RecordingsFor.RESPONSE)

    def _measure_recordings(self, given: Recordings) -> None:
        def measure() -> None:
            if given.purpose is RecordingsFor.STEPS:
                self._takes("read_recording")(given.recording, channel=given.channel, harmonic=given.harmonic,
                                             full_scale_v=given.full_scale_v)
            else:
                self._takes("measure_files")(given.stimulus, given.recording, interface=given.interface,
                                             channel=given.channel, full_scale_v=given.full_scale_v)

        self._guarded(measure)

    def choose_curve(self) -> None:
        """Another program's curve, with a look at what is understood of it."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Import a curve", "", CURVES)
        if name:
            self._guarded(lambda: self.curves.open(Path(name), ask=True))

    def save_sound(self) -> None:
        """What the filter in hand sounds like."""
        def save() -> None:
            path = chosen_to_write(self._window, "Save what it sounds like", "filter.wav", SOUNDS, ending=".wav")
            if path is not None:
                self.sound.write(path, self._frame.listening.what)

        self._guarded(save)

    # Whatever is opened or dropped

    def open(self, paths: list[Path]) -> None:
        """Files dropped or chosen: a book, filter files, a curve, or a stimulus with its recording."""
        endings = {path.suffix.lower() for path in paths}
        sounds, single = bool(endings) and endings <= RECORDINGS, len(paths) == 1
        shown: object = self._frame.shown.presenter
        if endings == {".jiyuu"} and single:
            self._guarded(lambda: self.change_book(Book.open(paths[0])))
        elif endings == {".json"}:
            self._guarded(lambda: self._shelve_all(paths))
        elif single and endings <= {".csv", ".tsv", ".txt", ".dat"}:
            self._guarded(lambda: self.curves.open(paths[0]))
        elif endings and (endings <= PICTURES or (hasattr(shown, "enclose") and endings <= {*PICTURES, *RECORDINGS})):
            self._guarded(lambda: self._takes("enclose", "logbook")(paths))
        elif sounds and len(paths) == 2:
            self._guarded(lambda: self._takes("measure_files")(*paths))
        elif sounds and single and hasattr(shown, "read_recording"):
            self._guarded(lambda: shown.read_recording(paths[0]))
        elif sounds:
            self.message.emit("Drop two files together: the stimulus that was played and the recording of it.", True)
        else:
            self.message.emit(f"{', '.join(path.name for path in paths)}: {NOTHING}", True)

    def _takes(self, what: str, otherwise: str = "response") -> Callable[..., None]:
        """Whoever takes such files: the step that is looked at, or else another one."""
        if not hasattr(self._frame.shown.presenter, what):
            self._frame.go(otherwise)
        taken: Callable[..., None] = getattr(self._frame.shown.presenter, what)
        return taken

    @staticmethod
    def may_drop(event: QDragEnterEvent | None) -> None:
        """Whether files hang at the pointer."""
        mime = None if event is None else event.mimeData()
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def drop(self, event: QDropEvent | None) -> None:
        """Files let go over the window."""
        mime = None if event is None else event.mimeData()
        if event is not None and mime is not None:
            event.acceptProposedAction()
            self.open([Path(url.toLocalFile()) for url in mime.urls() if url.isLocalFile()])
