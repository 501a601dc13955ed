"""Pictures and recordings that lie beside a note in the logbook, byte for byte as their files were."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from jiyuu.errors import BookError

if TYPE_CHECKING:
    from jiyuu.book.store import Book

LARGEST_BYTES = 200 * 2**20
# By the ending of a file: what it is, and the bytes that every such file begins with.
KINDS: Mapping[str, tuple[str, bytes]] = {
    ".png": ("image/png", b"\x89PNG\r\n\x1a\n"), ".jpg": ("image/jpeg", b"\xff\xd8\xff"),
    ".jpeg": ("image/jpeg", b"\xff\xd8\xff"), ".wav": ("audio/wav", b"RIFF"), ".flac": ("audio/flac", b"fLaC"),
}
ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg", "audio/wav": ".wav", "audio/flac": ".flac"}
MEDIA = frozenset(ENDINGS)


@dataclass(frozen=True, slots=True)
class Enclosure:
    """name of the file it was; media: 'image/png', 'audio/wav'."""

    name: str
    media: str
    content: bytes

    @property
    def is_picture(self) -> bool:
        return self.media.startswith("image/")


def read_enclosure(path: Path) -> Enclosure:
    """A file as it is. Raises BookError where it is neither picture nor recording, or too large to be kept."""
    media, first = KINDS.get(path.suffix.lower(), ("", b""))
    if not media:
        raise BookError(f"{path.name} is neither a picture (PNG, JPEG) nor a recording (WAV, FLAC); drop one of these.")
    try:
        size = path.stat().st_size
        if size > LARGEST_BYTES:
            raise BookError(f"{path.name} has {size / 2**20:.0f} MB; up to {LARGEST_BYTES / 2**20:.0f} MB lie in a "
                            "logbook: cut it, or note where it is kept.")
        content = path.read_bytes()
    except OSError as error:
        raise BookError(f"{path} cannot be read: {error.strerror}; check the name and its rights.") from error
    if not content.startswith(first):
        raise BookError(f"{path.name} is called {path.suffix} but does not begin like one; export it again.")
    return Enclosure(path.name, media, content)


def enclosure_of(book: Book, note_id: int) -> Enclosure | None:
    """What lies beside a note; None where nothing does."""
    for row in book.raw("SELECT name, media, content FROM enclosures WHERE note_id = ?", note_id):
        return Enclosure(str(row["name"]), str(row["media"]), bytes(row["content"]))
    return None


def enclosed(book: Book) -> dict[int, str]:
    """Media of what is enclosed, by the number of its note."""
    return {row["note_id"]: str(row["media"]) for row in book.raw("SELECT note_id, media FROM enclosures")}
