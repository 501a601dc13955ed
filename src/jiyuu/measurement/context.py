"""What every context of a finding has in common."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Context:
    """Base of all: fields are numbers, words, pairs of numbers, or None."""

    def as_json(self) -> dict[str, object]:
        return {"kind": type(self).__name__, **asdict(self)}
