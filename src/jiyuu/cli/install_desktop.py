"""The application into a person's own desktop: menu entry, icon, kinds of files, description; and out again."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Annotated

import typer

from jiyuu.errors import JiyuuError
from jiyuu.whole_file import write_bytes

# What is shipped, and where it belongs below the data folder (freedesktop.org: menu, icon theme, MIME, AppStream).
PLACES = {
    "packaging/jiyuu.desktop": "applications/jiyuu.desktop",
    "icons/jiyuu.svg": "icons/hicolor/scalable/apps/jiyuu.svg",
    "packaging/jiyuu-mime.xml": "mime/packages/jiyuu.xml",
    "packaging/jiyuu.metainfo.xml": "metainfo/jiyuu.metainfo.xml",
}
# Indexes that the desktop keeps of them, where it has the tools.
TOOLS = (("update-desktop-database", "applications"), ("update-mime-database", "mime"))


def install_desktop(
    remove: Annotated[bool, typer.Option("--remove", help="Take it out again.")] = False,
) -> None:
    """A menu entry with icon and kinds of files for this person; --remove takes it out."""
    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    done = list(_removed(data) if remove else _installed(data))
    for tool, folder in TOOLS:
        if shutil.which(tool) and (data / folder).is_dir():
            subprocess.run([tool, str(data / folder)], check=False, capture_output=True)
    for path in done:
        typer.echo(f"{'removed' if remove else 'written'}: {path}")
    if not done:
        typer.echo("Nothing was there to be removed.")


def _installed(data: Path) -> Iterator[Path]:
    """Raises JiyuuError where a folder cannot be made."""
    for shipped, place in PLACES.items():
        content, target = files("jiyuu.desktop").joinpath(shipped).read_bytes(), data / place
        if shipped.endswith(".desktop"):
            # By its whole path: the folder of a virtual environment is seldom one in which a desktop looks.
            content = content.replace(b"Exec=jiyuu", f"Exec={_quoted(_program())}".encode())
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise JiyuuError(f"{target.parent} could not be made: {error.strerror}; set XDG_DATA_HOME to a folder you "
                             "may write to.") from error
        write_bytes(target, content)
        yield target


def _removed(data: Path) -> Iterator[Path]:
    for place in PLACES.values():
        target = data / place
        if target.is_file():
            target.unlink()
            yield target


def _program() -> Path:
    beside = Path(sys.executable).with_name("jiyuu")
    found = beside if beside.exists() else Path(shutil.which("jiyuu") or beside)
    return found.absolute()


def _quoted(path: Path) -> str:
    """As the entry's own rules have it: between quotation marks where it holds more than plain signs."""
    text = str(path)
    if all(sign.isalnum() or sign in "/-_.+" for sign in text):
        return text
    for sign in '\\"`$':
        text = text.replace(sign, f"\\{sign}")
    return '"' + text.replace("%", "%%") + '"'
