"""Files written whole or not at all, and never onto what they were made from."""

from __future__ import annotations

import os
import shutil
import stat
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from jiyuu.errors import JiyuuError

BESIDE = ("-journal", "-wal", "-shm")


@contextmanager
def written_whole(path: Path, *, inputs: Iterable[Path] = ()) -> Iterator[Path]:
    """A temporary place beside `path` that takes its name when the block ends well, on the disk before it is said.

    A link stays one and what it points to is written; a pipe or a device is written into; rights are kept. inputs: what
    is being read: a path that leads to the same file, by whatever name, is refused.
    Raises JiyuuError when that is so, when the folder does not exist or cannot be written to, or when the disk is full.
    """
    apart_from(path, inputs)
    try:
        target = path.resolve() if path.is_symlink() else path
        if target.is_dir():
            raise JiyuuError(f"{path} is a folder; give the name of a file.")
        if not target.parent.is_dir():
            raise JiyuuError(f"{target.parent} is not a folder; make it first or choose another place.")
        mode = target.stat().st_mode if target.exists() else None
        into_stream = mode is not None and not stat.S_ISREG(mode)
        handle, name = tempfile.mkstemp(dir=None if into_stream else target.parent, prefix=".jiyuu-", suffix=".part")
        os.close(handle)
    except OSError as error:
        raise _unwritable(path, error) from error
    temporary = Path(name)
    try:
        yield temporary
        if into_stream:
            with temporary.open("rb") as made, target.open("wb") as stream:
                shutil.copyfileobj(made, stream)
        else:
            temporary.chmod(0o666 & ~_mask() if mode is None else stat.S_IMODE(mode))
            to_disk(temporary)
            temporary.replace(target)
            to_disk(target.parent)
    except BrokenPipeError:
        raise  # whoever read it has seen enough
    except OSError as error:
        raise _unwritable(path, error) from error
    finally:
        take_away(temporary)


def take_away(path: Path) -> None:
    """A file that is not to stay, and what a database leaves beside it where its disk is full."""
    path.unlink(missing_ok=True)
    for end in BESIDE:
        with suppress(OSError):
            path.with_name(f"{path.name}{end}").unlink()


def apart_from(path: Path, inputs: Iterable[Path]) -> None:
    """Raises JiyuuError where a path to be written leads to one of the files being read."""
    for read in inputs:
        try:
            same = path.resolve() == read.resolve() or (path.exists() and read.exists() and path.samefile(read))
        except OSError:
            same = False
        # Reading and writing one pipe or device (a terminal, /dev/null) loses nothing.
        if same and (read.is_file() or not read.exists()):
            raise JiyuuError(f"{path} is what is being read and would be lost; choose another name for the output.")


def write_text(path: Path, text: str, *, inputs: Iterable[Path] = ()) -> None:
    """Text in UTF-8, whole or not at all; see written_whole."""
    write_bytes(path, text.encode("utf-8"), inputs=inputs)


def write_bytes(path: Path, data: bytes, *, inputs: Iterable[Path] = ()) -> None:
    """Whole or not at all; see written_whole."""
    with written_whole(path, inputs=inputs) as temporary:
        temporary.write_bytes(data)


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def to_disk(path: Path) -> None:
    """File or folder out of the caches: a loss of power must not leave the name without its contents."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    except OSError:
        if not path.is_dir():  # some file systems have no such thing for folders
            raise
    finally:
        os.close(handle)


def _unwritable(path: Path, error: OSError) -> JiyuuError:
    shown = str(path) if len(str(path)) <= 200 else f"{str(path)[:200]}…"
    return JiyuuError(f"{shown} could not be written: {error.strerror or error}; choose another place.")
