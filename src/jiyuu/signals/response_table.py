"""Response curves of other instruments as tables: frequency in Hz, level in dB, phase in degrees where there is one."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError

LARGEST_FILE = 64 << 20
SEPARATORS, LOOKED_AT = ("\t", ";", ","), 200  # the first that fits best, in so many lines
FEWEST_ROWS = 24


@dataclass(frozen=True, slots=True, eq=False)
class ResponseTable:
    """Arrays (n,), frequencies rising; phase_deg and uncertainty_db None where the file has none."""

    frequency_hz: FloatArray
    level_db: FloatArray
    phase_deg: FloatArray | None
    uncertainty_db: FloatArray | None


def read_response_table(path: Path) -> ResponseTable:
    """A CSV with commas, semicolons or tabs; lines without two numbers (headings, remarks) are passed over. A heading
    that names uncertainty_db in its fourth column is believed.

    Raises SignalError with the line and what to do."""
    if not path.is_file():
        raise SignalError(f"{path} does not exist; check the name.")
    if path.stat().st_size > LARGEST_FILE:
        raise SignalError(f"{path} is larger than a response curve can be; check that it is one.")
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SignalError(f"{path} is not text in UTF-8; export it again as CSV.") from error
    rows: list[list[float]] = []
    doubt_column = False
    lines = text.splitlines()
    separator = max(SEPARATORS, key=lambda one: _fitting(lines, one))
    for number, line in enumerate(lines, start=1):
        cells = _cells(line, separator)
        values = _numbers(cells, comma_is_point=separator != ",")
        if values is None:
            doubt_column |= len(cells) > 3 and cells[3].strip() == "uncertainty_db"
            if rows and not line.lstrip().startswith("#") and any(sign.isdigit() for sign in line):
                raise SignalError(f"{path}, line {number}: '{cells[0].strip()[:40]}' is no number; write numbers "
                                  "without thousands separators, and begin a remark with #.")
            continue
        if len(values) < 2:
            raise SignalError(f"{path}, line {number}: a row needs a frequency in Hz and a level in dB.")
        if not np.isfinite(values[:2]).all() or not values[0] > 0 or np.isinf(values).any():
            raise SignalError(f"{path}, line {number}: frequency and level must be finite, the frequency above 0 Hz.")
        rows.append(values)
    if len(rows) < FEWEST_ROWS:
        raise SignalError(f"{path} holds {len(rows)} rows of numbers without thousands separators; a curve needs at "
                          f"least {FEWEST_ROWS}.")
    width = min(len(row) for row in rows)
    table = np.array([row[:width] for row in rows])
    table = table[np.argsort(table[:, 0], kind="stable")]
    if (np.diff(table[:, 0]) <= 0).any():
        twice = float(table[:-1, 0][np.diff(table[:, 0]) <= 0][0])
        raise SignalError(f"{path} has {twice:g} Hz twice; keep one row of each frequency.")
    if table[-1, 0] < 2 * table[0, 0]:
        raise SignalError(f"{path} spans less than an octave; export a wider band.")
    return ResponseTable(
        table[:, 0], table[:, 1], table[:, 2] if width > 2 else None,
        table[:, 3] if doubt_column and width > 3 else None,
    )


def _cells(line: str, separator: str) -> list[str]:
    """Of one line; one that is no CSV is one cell."""
    try:
        return next(csv.reader([line], delimiter=separator), [])
    except csv.Error:  # a cell without end
        return [line]


def _fitting(lines: list[str], separator: str) -> int:
    """Lines that hold two numbers or more between such separators."""
    read = (_numbers(_cells(line, separator), comma_is_point=separator != ",") for line in lines[:LOOKED_AT]
            if not line.lstrip().startswith("#"))
    return sum(values is not None and len(values) > 1 for values in read)


def _numbers(cells: list[str], *, comma_is_point: bool) -> list[float] | None:
    """The numbers at the head of a row; None when its first cell is not one."""
    found: list[float] = []
    for cell in cells:
        written = cell.strip().replace(",", ".") if comma_is_point else cell.strip()
        try:
            found.append(float(written))
        except ValueError:
            break
    return found or None


def on_even_grid(table: ResponseTable, *, per_octave: int) -> ResponseTable:
    """The same curve on a uniform logarithmic grid; between its points straight over octaves."""
    low, high = np.log2(table.frequency_hz[[0, -1]])
    octave = low + np.arange(int((high - low) * per_octave) + 1) / per_octave
    given = np.log2(table.frequency_hz)

    def between(values: FloatArray | None) -> FloatArray | None:
        return None if values is None else np.asarray(np.interp(octave, given, values))

    level = np.asarray(np.interp(octave, given, table.level_db))
    return ResponseTable(2.0**octave, level, between(table.phase_deg), between(table.uncertainty_db))
