"""Figures of reports, from the tables of runs."""

from __future__ import annotations

import csv
import math
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.report.sheet import Picture
from jiyuu.inks import PAPER
from jiyuu.measurement.curve_reading import above_noise
from jiyuu.quantities import in_thousands

if TYPE_CHECKING:
    from matplotlib.axes import Axes

DASHES = ("solid", (0, (5, 2)), (0, (1, 1.5)), (0, (6, 2, 1, 2)), (0, (9, 3)), (0, (6, 2, 1, 2, 1, 2)))
DEEPEST_DB = 80.0
HERTZ, VOLTS = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000), (0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30)

Columns = Mapping[str, FloatArray]


def columns_of(path: Path) -> Columns:
    """Of a CSV table that a walk has written."""
    with path.open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(line for line in file if not line.startswith("#")))
    names = rows[0].keys() if rows else ()
    return {name: np.array([float(row[name]) if row[name] else math.nan for row in rows]) for name in names}


def pictures_of(kinds: Mapping[str, Mapping[str, Columns]]) -> tuple[Picture, ...]:
    """A figure for each kind of table; kinds: its columns by the name that its curve is called."""
    return tuple(Picture(partial(draw, tables=kinds[kind]), height)
                 for kind, (draw, height) in _DRAWN.items() if kinds.get(kind))


def _named(axes: Axes, over: str, what: str, *, ticks: Sequence[float] = ()) -> None:
    """ticks: of a logarithmic axis, written as they are said."""
    axes.set_xlabel(over)
    axes.set_ylabel(what)
    if ticks:
        axes.set_xscale("log")
        axes.set_xticks(ticks, [in_thousands(tick) for tick in ticks])
        axes.minorticks_off()


def _response(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Frequency, Hz", "Level re the input, dB", ticks=HERTZ)
    tops = [float(table["magnitude_db"].max()) for table in tables.values()]
    for i, (name, table) in enumerate(tables.items()):
        clear = above_noise(table["frequency_hz"], table["magnitude_db"], table["snr_db"])
        if clear.any():
            axes.plot(table["frequency_hz"][clear], table["magnitude_db"][clear], color=PAPER.ink, lw=1.2,
                      ls=DASHES[i % len(DASHES)], label=name, alpha=1 - 0.05 * i)
    axes.set_ylim(max(tops) - DEEPEST_DB, max(tops) + 6)
    axes.legend(fontsize=7, ncols=3, frameon=False)


def inked_curves(curves: Sequence[tuple[str, FloatArray, FloatArray]], what: str) -> Picture:
    """Curves over frequency, each in the ink of its letter: (letter, hertz, dB)."""

    def draw(axes: Axes) -> None:
        _named(axes, "Frequency, Hz", what, ticks=HERTZ)
        for letter, hertz, level in curves:
            ink = PAPER.ink_of(letter)
            axes.plot(hertz, level, color=ink.colour, lw=1.4, ls=(0, ink.dash) if ink.dash else "solid", label=letter)
        tops = [float(np.nanmax(level)) for _, _, level in curves]
        axes.set_ylim(max(tops) - DEEPEST_DB, max(tops) + 6)
        axes.legend(fontsize=7, ncols=6, frameon=False)

    return Picture(draw, 2.9)


def _first(tables: Mapping[str, Columns]) -> Columns:
    return next(iter(tables.values()))


def _resonance(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Resonance control, %", "dB")
    table = _first(tables)
    for name, dash, title in (("peak_db", "solid", "peak re the passband"), ("body_db", DASHES[1], "body")):
        axes.plot(table["position_percent"], table[name], color=PAPER.ink, lw=1.6, ls=dash, marker="o", ms=3,
                  label=title)
    axes.legend(fontsize=7, frameon=False)


def _pull(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Resonance control, %", "Pitch of the whistle, cents")
    table = _first(tables)
    axes.plot(table["position_percent"], table["cents"], color=PAPER.ink, lw=1.6, marker="o", ms=4)


def _drive(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Input, V peak", "Gain in dB; THD in dB re the first harmonic", ticks=VOLTS)
    table = _first(tables)
    axes.plot(table["input_peak_v"], table["gain_db"], color=PAPER.ink, lw=1.6, label="gain")
    known = table["thd_percent"] > np.nan_to_num(table["thd_uncertainty_percent"])
    if known.any():
        axes.plot(table["input_peak_v"][known], 20 * np.log10(table["thd_percent"][known] / 100), color=PAPER.ink,
                  lw=1.6, ls=DASHES[1], label="THD")
    axes.legend(fontsize=7, frameon=False)


def _tracking(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Control voltage, V", "Out of tune, cents")
    table = _first(tables)
    for cents in (20, 5, 2):
        axes.axhspan(-cents, cents, color=PAPER.ink, alpha=0.06, lw=0)
    axes.plot(table["volts"], table["error_cents"], color=PAPER.ink, lw=1.6, marker="o", ms=5)


def _ring(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Time since it was struck, ms", "Ring re its loudest, dB")
    table = _first(tables)
    axes.plot(1000 * table["time_s"], table["level_db"], color=PAPER.ink, lw=1.6)
    axes.axhline(-60, color=PAPER.ink, lw=0.8, ls=DASHES[2])
    axes.set_ylim(-70, 3)


def _settling(axes: Axes, tables: Mapping[str, Columns]) -> None:
    _named(axes, "Step of the control, octaves", "Within ±10 cents after, ms")
    table = _first(tables)
    octaves = np.log2(table["to_hz"] / table["from_hz"])
    axes.vlines(octaves, 0, 1000 * table["settling_s"], color=PAPER.ink, lw=1.0)
    axes.plot(octaves, 1000 * table["settling_s"], color=PAPER.ink, lw=0, marker="o", ms=5, label="settled")
    axes.plot(octaves, 1000 * table["resolution_s"], color=PAPER.ink, lw=0, marker="_", ms=12, label="told to")
    axes.set_ylim(0, None)
    axes.legend(fontsize=7, frameon=False)


_DRAWN: dict[str, tuple[Callable[..., None], float]] = {
    "response": (_response, 3.6), "resonance": (_resonance, 2.8), "pull": (_pull, 2.8), "tracking": (_tracking, 2.8),
    "drive": (_drive, 2.8), "ring": (_ring, 2.8), "settling": (_settling, 2.8),
}
