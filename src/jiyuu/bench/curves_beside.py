"""Any figure of the walk for several filters at once, as it was measured of each, or what it differs by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.measured_beside import Measured
from jiyuu.book.store import Book
from jiyuu.measurement.curve_reading import above_noise


@dataclass(frozen=True, slots=True)
class Curve:
    """A figure: the step whose table it is read from, over which column, what of it; doubt: the column of its
    uncertainty; over_noise: of its dB over the noise, below which nothing is drawn; log: whether what it is over is."""

    title: str
    step: str
    table: str
    over: str
    over_said: str
    what: str
    unit: str
    log: bool = False
    doubt: str = ""
    over_noise: str = ""


CURVES: tuple[Curve, ...] = (
    Curve("Response", "response", "response", "frequency_hz", "Hz", "magnitude_db", "dB", log=True,
          doubt="uncertainty_db", over_noise="snr_db"),
    Curve("Peak over the resonance control", "resonance", "resonance", "position_percent", "%", "peak_db", "dB"),
    Curve("Body over the resonance control", "resonance", "resonance", "position_percent", "%", "body_db", "dB"),
    Curve("Q over the resonance control", "resonance", "resonance", "position_percent", "%", "q", ""),
    Curve("Pitch of the whistle over the resonance control", "self_oscillation", "pull", "position_percent", "%",
          "cents", "cents"),
    Curve("Level of the whistle over its range", "self_oscillation", "range", "frequency_hz", "Hz", "amplitude_v", "V",
          log=True),
    Curve("Out of tune over the control voltage", "tracking", "tracking", "volts", "V", "error_cents", "cents",
          doubt="uncertainty_cents"),
    Curve("Gain over the level", "drive", "drive", "input_peak_v", "V peak", "gain_db", "dB", log=True),
    Curve("Distortion over the level", "drive", "drive", "input_peak_v", "V peak", "thd_percent", "%", log=True,
          doubt="thd_uncertainty_percent"),
    Curve("Ring after a knock", "modulation", "ring", "time_s", "s", "level_db", "dB"),
)


@dataclass(frozen=True, slots=True, eq=False)
class Drawn:
    """One filter's: x, y (n,) and doubt (n,), None where none is known."""

    letter: str
    x: FloatArray
    y: FloatArray
    doubt: FloatArray | None


def curves_beside(book: Book, columns: Sequence[Measured]) -> dict[str, list[Drawn]]:
    """By the titles of CURVES, of every filter that has it."""
    tables = {(column.name, step): book.tables(run.id) for column in columns for step, run in column.runs.items()}
    found: dict[str, list[Drawn]] = {}
    for curve in CURVES:
        drawn = []
        for column in columns:
            table = tables.get((column.name, curve.step), {}).get(curve.table)
            if table is None or not {curve.over, curve.what} <= table.columns.keys():
                continue
            doubt = table.columns.get(curve.doubt) if curve.doubt else None
            y = table.columns[curve.what]
            if curve.over_noise in table.columns:
                y = np.where(above_noise(table.columns[curve.over], y, table.columns[curve.over_noise]), y, np.nan)
            drawn.append(Drawn(column.name, table.columns[curve.over], y, doubt))
        if drawn:
            found[curve.title] = drawn
    return found


def less(drawn: Sequence[Drawn], letter: str, *, log: bool) -> list[Drawn]:
    """All others less that one, where both are known; without it nothing."""
    base = next((one for one in drawn if one.letter == letter), None)
    if base is None:
        return []
    found = []
    for one in drawn:
        if one is base:
            continue
        inside = (one.x >= base.x.min()) & (one.x <= base.x.max())
        place = np.log if log else np.asarray
        x = one.x[inside]
        under = np.interp(place(x), place(base.x), base.y)
        doubts = [np.interp(place(x), place(of.x), of.doubt) for of in (one, base) if of.doubt is not None]
        found.append(Drawn(one.letter, x, one.y[inside] - under,
                           np.asarray(np.sqrt(np.sum(np.square(doubts), axis=0))) if doubts else None))
    return found
