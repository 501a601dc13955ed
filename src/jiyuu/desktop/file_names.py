"""Names of files that a person is asked for: what was confirmed is what is written, and nothing else."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from jiyuu.errors import JiyuuError

BOOKS = "Books (*.jiyuu)"


def chosen_to_write(parent: QWidget, title: str, suggested: str, kinds: str, *, ending: str) -> Path | None:
    """Asks for a name to write to; None where the person thought better of it. Raises JiyuuError as `completed`."""
    name, _ = QFileDialog.getSaveFileName(parent, title, suggested, kinds)
    return completed(Path(name), ending, kinds) if name else None


def completed(path: Path, ending: str, kinds: str) -> Path:
    """The path with an ending, where it has none of those in kinds ('Figures (*.svg *.png)'): 'take 3.5' becomes
    'take 3.5.wav', never 'take 3.wav'. Raises JiyuuError where a file of the completed name exists: it was never
    confirmed that it may be replaced."""
    known = kinds.partition("(")[2].rstrip(")").replace("*", "").split()
    if path.suffix.lower() in known:
        return path
    whole = path.with_name(path.name + ending)
    if whole.exists():
        raise JiyuuError(f"{whole.name} exists already; type its whole name to replace it, or another one.")
    return whole
