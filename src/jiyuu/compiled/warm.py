"""Compile all loops ahead of time: python -m jiyuu.compiled.warm"""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from pathlib import Path

import jiyuu
from jiyuu.compiled.loops import Loop


def loops() -> Iterator[tuple[str, Loop]]:
    """(module.name, loop) of all that are written anywhere in the package."""
    root = Path(jiyuu.__file__).parent
    for file in sorted(root.rglob("*.py")):
        if "\n@loop(" in file.read_text():
            name = ".".join(("jiyuu", *file.relative_to(root).with_suffix("").parts))
            for one in vars(importlib.import_module(name)).values():
                if isinstance(one, Loop) and one.python.__module__ == name:
                    yield f"{file.stem}.{one.__name__}", one


if __name__ == "__main__":
    for _, one in loops():
        one.kept()
