"""Results of long work kept for a while, found again by what they follow from."""

from __future__ import annotations

import threading
from typing import Generic, TypeVar

Value = TypeVar("Value")


class Remembered(Generic[Value]):
    """The last so many of them, for several threads at once. What was asked is told by equality, so that anything that
    stands still will do; it must not be changed afterwards, nor what is kept."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: list[tuple[object, Value]] = []
        self._guard = threading.Lock()

    def get(self, asked: object) -> Value | None:
        """What it came to; None where that is not known (any more)."""
        with self._guard:
            for place, (known, value) in enumerate(self._kept):
                if known == asked:
                    self._kept.append(self._kept.pop(place))
                    return value
        return None

    def keep(self, asked: object, value: Value) -> None:
        """The one asked for longest ago makes room."""
        with self._guard:
            others = [(known, one) for known, one in self._kept if known != asked]
            self._kept = [*others, (asked, value)][-self._most :]
