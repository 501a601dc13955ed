"""Whether a file is a patch, without reading it."""

from __future__ import annotations

from pathlib import Path


def is_patch(name: str) -> bool:
    """By its ending, or by what it says it is."""
    if name.endswith(".patch.json"):
        return True
    try:
        with Path(name).open("rb") as file:
            return name.endswith(".json") and b'"jiyuu-patch"' in file.read(400)
    except (OSError, ValueError):
        return False
