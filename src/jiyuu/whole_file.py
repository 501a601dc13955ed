"""Files written whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from jiyuu.errors import JiyuuError


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """A temporary place beside `path` that takes its name when the block ends well.

    Raises JiyuuError when the folder does not exist or cannot be written to."""
    if path.is_dir():
        raise JiyuuError(f"{path} is a folder; give the name of a file.")
    if not path.parent.is_dir():
        raise JiyuuError(f"{path.parent} is not a folder; make it first or choose another place.")
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.", suffix=".part")
        os.close(handle)
    except OSError as error:
        raise JiyuuError(f"{path} could not be written: {error.strerror}; choose another place.") from error
    temporary = Path(name)
    try:
        yield temporary
        mask = os.umask(0)
        os.umask(mask)
        temporary.chmod(0o666 & ~mask)
        temporary.replace(path)
    except OSError as error:
        raise JiyuuError(f"{path} could not be written: {error.strerror}; choose another place.") from error
    finally:
        temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str) -> None:
    """Text in UTF-8, whole or not at all."""
    with written_whole(path) as temporary:
        temporary.write_text(text, encoding="utf-8")
