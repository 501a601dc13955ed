"""How a table of another program is written: what separates, decimal and thousands signs, which column is what in
which unit. Guessed from the text, and to be changed by whoever knows better."""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

FrequencyUnit = Literal["Hz", "kHz"]
LevelUnit = Literal["dB", "V/V"]
PhaseUnit = Literal["°", "rad"]
SEPARATORS = ("\t", ";", ",")
LOOKED_AT = 200  # lines
# Decimal and thousands signs, the plainest first: of what fits as well, that is meant.
SIGNS = ((".", ""), (",", ""), (".", ","), (",", "."), (".", " "), (",", " "), (".", "'"), (",", "'"))
NAMES = {"\t": "tabs", ";": "semicolons", ",": "commas", ".": "points", " ": "spaces", "'": "apostrophes"}
HEADINGS = {
    "frequency": re.compile(r"freq|hz\b|^f\b"), "phase": re.compile(r"phase|deg|°|\brad"),
    "level": re.compile(r"mag|level|gain|\bdb\b|ampl|v/v|ratio"),
}
AS_RATIO, IN_KHZ, IN_RADIANS = re.compile(r"v/v|ratio|linear|\blin\b"), re.compile(r"khz"), re.compile(r"\brad")


@dataclass(frozen=True, slots=True)
class Layout:
    """thousands '' for none; columns counted from 0, None for none. uncertainty: always in dB."""

    separator: str = ","
    decimal: str = "."
    thousands: str = ""
    frequency: int = 0
    level: int = 1
    phase: int | None = 2
    uncertainty: int | None = None
    frequency_unit: FrequencyUnit = "Hz"
    level_unit: LevelUnit = "dB"
    phase_unit: PhaseUnit = "°"

    @property
    def plain(self) -> bool:
        """Whether nobody need be asked: hertz, decibels, degrees in that order, and no thousands signs."""
        units = (self.frequency_unit, self.level_unit, self.phase_unit)
        return (units == ("Hz", "dB", "°") and not self.thousands and (self.frequency, self.level) == (0, 1)
                and self.phase in (None, 2))

    @property
    def said(self) -> str:
        """'semicolons between columns, decimal comma; column 1 frequency in kHz, 2 level in dB, 3 phase in °'."""
        signs = f"{NAMES[self.separator]} between columns, decimal {'comma' if self.decimal == ',' else 'point'}"
        if self.thousands:
            signs += f", {NAMES[self.thousands]} between thousands"
        columns = [f"column {self.frequency + 1} frequency in {self.frequency_unit}",
                   f"{self.level + 1} level in {self.level_unit}"]
        columns += [] if self.phase is None else [f"{self.phase + 1} phase in {self.phase_unit}"]
        columns += [] if self.uncertainty is None else [f"{self.uncertainty + 1} uncertainty in dB"]
        return f"{signs}; {', '.join(columns)}"

    def cells(self, line: str) -> list[str]:
        """Of one line; one that is no CSV is one cell."""
        try:
            return next(csv.reader([line], delimiter=self.separator), [])
        except csv.Error:  # a cell without end
            return [line]

    def number(self, cell: str) -> float | None:
        """None for what is not written like this."""
        text = cell.strip().replace("\u2212", "-").replace("\u00a0", " ")
        if self.thousands:
            sign = re.escape(self.thousands)
            whole = re.compile(rf"[+-]?(\d{{1,3}}({sign}\d{{3}})+|\d+)({re.escape(self.decimal)}\d*)?([eE][+-]?\d+)?")
            if not whole.fullmatch(text):
                return None
            text = text.replace(self.thousands, "")
        elif self.decimal == "," and "." in text:
            return None
        try:
            return float(text.replace(self.decimal, "."))
        except ValueError:
            return None

    def numbers(self, line: str) -> list[float] | None:
        """Those at the head of a row; None where its first cell is none."""
        found: list[float] = []
        for cell in self.cells(line):
            value = self.number(cell)
            if value is None:
                break
            found.append(value)
        return found or None


def guessed(lines: Sequence[str]) -> Layout:
    """The plainest that reads most of the first lines, with frequencies that rise; columns and units by their
    headings, else in the usual order."""
    looked = [line for line in lines[:LOOKED_AT] if line.strip()]
    layouts = [Layout(separator, decimal, thousands) for separator in SEPARATORS for decimal, thousands in SIGNS
               if separator not in (decimal, thousands)]
    best = max(layouts, key=lambda one: (_fits(looked, one), -SIGNS.index((one.decimal, one.thousands))))
    return _with_columns(looked, best)


def _fits(lines: Sequence[str], layout: Layout) -> int:
    """Rows of two numbers or more that go on rising, or falling, from the row before."""
    rows = [values for line in lines if not line.lstrip().startswith("#")
            and (values := layout.numbers(line)) is not None and len(values) > 1]
    steps = [math.copysign(1, second[0] - first[0]) for first, second in pairwise(rows)
             if second[0] != first[0]]
    return len(rows) + abs(int(sum(steps)))


def _with_columns(lines: Sequence[str], layout: Layout) -> Layout:
    first = next((i for i, line in enumerate(lines) if (values := layout.numbers(line)) and len(values) > 1
                  and not line.lstrip().startswith("#")), None)
    if first is None:
        return layout
    width = len(layout.numbers(lines[first]) or ())
    heads = _headings(lines[:first], layout, width)
    found: dict[str, int] = {}
    for place, head in enumerate(heads[:width]):
        kind = next((kind for kind, words in HEADINGS.items() if words.search(head)), None)
        if head == "uncertainty_db":
            found["uncertainty"] = place
        elif kind is not None:
            found.setdefault(kind, place)
    frequency = found.get("frequency", 0)
    others = [place for place in range(width) if place != frequency]
    level = found.get("level", others[0] if others else 1)
    named = bool(heads) and ("frequency" in found or "level" in found)
    usual = level + 1 if level + 1 < width and not named else None
    phase = found.get("phase", usual)

    def said(place: int | None) -> str:
        return "" if place is None or place >= len(heads) else heads[place]

    return Layout(
        layout.separator, layout.decimal, layout.thousands, frequency, level, phase, found.get("uncertainty"),
        "kHz" if IN_KHZ.search(said(frequency)) else "Hz", "V/V" if AS_RATIO.search(said(level)) else "dB",
        "rad" if IN_RADIANS.search(said(phase)) else "°")


def _headings(lines: Sequence[str], layout: Layout, width: int) -> list[str]:
    """The last line above the numbers that has as many cells as they have columns, in small letters."""
    for line in reversed(lines):
        cells = [cell.strip(" #*\"'").casefold() for cell in layout.cells(line)]
        if len(cells) >= width and any(cells):
            return cells
    return []
