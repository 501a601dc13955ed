"""How far a piece of work is."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Progress:
    """What is being done and the share of the whole that is behind."""

    text: str
    share: float
