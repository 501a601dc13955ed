"""Response curves of other instruments as tables: frequency in Hz, level in dB, phase in degrees where there is one."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals.table_layout import Layout, guessed

LARGEST_FILE = 64 << 20
FEWEST_ROWS = 24


@dataclass(frozen=True, slots=True, eq=False)
class ResponseTable:
    """Arrays (n,), frequencies rising; phase_deg and uncertainty_db None where the file has none."""

    frequency_hz: FloatArray
    level_db: FloatArray
    phase_deg: FloatArray | None
    uncertainty_db: FloatArray | None


def lines_of(path: Path) -> list[str]:
    """Of a table's text. Raises SignalError where there is none, or too much."""
    if not path.is_file():
        raise SignalError(f"{path} does not exist; check the name.")
    if path.stat().st_size > LARGEST_FILE:
        raise SignalError(f"{path} is larger than a response curve can be; check that it is one.")
    try:
        return path.read_bytes().decode("utf-8-sig").splitlines()
    except UnicodeDecodeError as error:
        raise SignalError(f"{path} is not text in UTF-8; export it again as CSV.") from error


def read_response_table(path: Path, layout: Layout | None = None) -> ResponseTable:
    """A CSV with commas, semicolons or tabs; lines without two numbers (headings, remarks) are passed over. layout: how
    it is written, guessed when not given.

    Raises SignalError with the line and what to do."""
    lines = lines_of(path)
    known = layout or guessed(lines)
    rows: list[list[float]] = []
    for number, line in enumerate(lines, start=1):
        values = None if line.lstrip().startswith("#") else known.numbers(line)
        if values is None:
            if rows and not line.lstrip().startswith("#") and any(sign.isdigit() for sign in line):
                first = next(iter(known.cells(line)), "").strip()[:40]
                raise SignalError(f"{path}, line {number}: '{first}' is no number; write all of them alike, and begin "
                                  "a remark with #.")
            continue
        if len(values) <= max(known.frequency, known.level):
            raise SignalError(f"{path}, line {number}: a row needs a frequency in {known.frequency_unit} and a level "
                              f"in {known.level_unit}.")
        hertz, level = values[known.frequency], values[known.level]
        if not np.isfinite([hertz, level]).all() or not hertz > 0 or np.isinf(values).any():
            raise SignalError(f"{path}, line {number}: frequency and level must be finite, the frequency above 0 Hz.")
        if known.level_unit == "V/V" and not level > 0:
            raise SignalError(f"{path}, line {number}: a gain of {level:g} V/V has no level in dB; leave the row out.")
        rows.append(values)
    if len(rows) < FEWEST_ROWS:
        raise SignalError(f"{path} holds {len(rows)} rows of numbers; a curve needs at least {FEWEST_ROWS}.")
    return _table(path, rows, known)


def _table(path: Path, rows: list[list[float]], known: Layout) -> ResponseTable:
    width = min(len(row) for row in rows)
    table = np.array([row[:width] for row in rows])
    hertz = table[:, known.frequency] * (1000.0 if known.frequency_unit == "kHz" else 1.0)
    order = np.argsort(hertz, kind="stable")
    hertz, table = hertz[order], table[order]
    if (np.diff(hertz) <= 0).any():
        twice = float(hertz[:-1][np.diff(hertz) <= 0][0])
        raise SignalError(f"{path} has {twice:g} Hz twice; keep one row of each frequency.")
    if hertz[-1] < 2 * hertz[0]:
        raise SignalError(f"{path} spans less than an octave; export a wider band.")

    def column(place: int | None) -> FloatArray | None:
        return None if place is None or place >= width else table[:, place]

    level = table[:, known.level]
    phase = column(known.phase)
    if phase is not None and known.phase_unit == "rad":
        phase = np.rad2deg(phase)
    return ResponseTable(hertz, 20 * np.log10(level) if known.level_unit == "V/V" else level, phase,
                         column(known.uncertainty))


def on_even_grid(table: ResponseTable, *, per_octave: int) -> ResponseTable:
    """The same curve on a uniform logarithmic grid; between its points straight over octaves."""
    low, high = np.log2(table.frequency_hz[[0, -1]])
    octave = low + np.arange(int((high - low) * per_octave) + 1) / per_octave
    given = np.log2(table.frequency_hz)

    def between(values: FloatArray | None) -> FloatArray | None:
        return None if values is None else np.asarray(np.interp(octave, given, values))

    level = np.asarray(np.interp(octave, given, table.level_db))
    return ResponseTable(2.0**octave, level, between(table.phase_deg), between(table.uncertainty_db))
