"""What a thousand builds of a filter would do: bands of response, onset and pitch, and which tolerance is to blame."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.linear import level_db, onset
from jiyuu.circuits.many_units import gains_of_units
from jiyuu.circuits.unit import draw_numbers, draw_unit
from jiyuu.progress import Progress
from jiyuu.simulation.oscillation import oscillation
from jiyuu.stopping import checkpoint

UNITS = 1000
PITCHED_UNITS = 24
ONSET_UNITS = 60
PERCENTILES = (5.0, 50.0, 95.0)
BLAMED_UNITS = 200
# What each tolerance is called when it is named as the worst.
CONTRIBUTORS = {
    "capacitor_percent": "capacitors", "cutoff_offset_cents": "cutoff trim", "cutoff_scale_percent": "cutoff scale",
    "onset_travel_percent": "resonance trim", "gain_db": "output gain", "droop_cents": "bulk resistance",
    "leak_cents": "leakage",
}


@dataclass(frozen=True, slots=True, eq=False)
class ToleranceStudy:
    """Percentiles 5, 50, 95: level_db (3, n) over frequency_hz (n,); onset_percent of the control's travel; pitch of
    self-oscillation in cents from the drawing's (None where it does not oscillate at the end of the control).

    blame: contributor -> RMS spread of the level it causes alone, dB, over the band within 40 dB of the top."""

    frequency_hz: FloatArray
    level_db: FloatArray
    onset_percent: tuple[float, float, float] | None
    pitch_cents: tuple[float, float, float] | None
    blame: dict[str, float]
    units: int

    @property
    def worst(self) -> str | None:
        """The contributor that spreads the response most."""
        return max(self.blame, key=lambda name: self.blame[name]) if any(self.blame.values()) else None


def response_band(
    document: Filter, mode: str, frequency_hz: FloatArray, *, cutoff_hz: float, resonance_percent: float,
    units: int = UNITS,
) -> FloatArray:
    """(3, n) dB: percentiles of the level over drawn units."""
    levels = _levels(document, mode, frequency_hz, cutoff_hz, resonance_percent, units)
    return np.asarray(np.percentile(levels, PERCENTILES, axis=0))


def study(
    document: Filter, mode: str, frequency_hz: FloatArray, *, cutoff_hz: float, resonance_percent: float,
    units: int = UNITS,
) -> Iterator[Progress | ToleranceStudy]:
    """Yields progress, an early study with the response band alone, and the whole one at last."""
    yield Progress(f"Drawing {units} units", 0.02)
    band = response_band(
        document, mode, frequency_hz, cutoff_hz=cutoff_hz, resonance_percent=resonance_percent, units=units
    )
    yield ToleranceStudy(frequency_hz, band, None, None, {}, units)
    blame = {}
    top = band[1] > band[1].max() - 40
    for i, name in enumerate(CONTRIBUTORS):
        yield Progress(f"Which tolerance counts: {CONTRIBUTORS[name]}", 0.2 + 0.5 * i / len(CONTRIBUTORS))
        alone = document.model_copy(update={"tolerances": _only(document.tolerances, name)})
        spread = _levels(alone, mode, frequency_hz, cutoff_hz, resonance_percent, BLAMED_UNITS)[:, top]
        blame[CONTRIBUTORS[name]] = float(np.sqrt(np.mean(np.var(spread, axis=0))))
    yield Progress("Onset of self-oscillation", 0.7)
    onsets = []
    for unit in (draw_unit(document, seed) for seed in range(ONSET_UNITS)):
        checkpoint()
        found = onset(unit.network, cutoff_hz=unit.drawn.cutoff_hz(cutoff_hz))
        if found is not None:
            onsets.append(document.percent_at(found.gain / unit.drawn.gain_factor))
    pitches = []
    for seed in range(PITCHED_UNITS):
        yield Progress("Pitch of self-oscillation", 0.75 + 0.25 * seed / PITCHED_UNITS)
        unit = draw_unit(document, seed)
        tone = oscillation(
            unit.network, mode, cutoff_hz=unit.drawn.cutoff_hz(cutoff_hz),
            gain=document.gain_at(100.0) * unit.drawn.gain_factor,
        )
        if tone is not None:
            pitches.append(1200 * np.log2(tone.frequency_hz / cutoff_hz))
    yield ToleranceStudy(frequency_hz, band, _three(onsets), _three(pitches), blame, units)


def _three(values: list[float]) -> tuple[float, float, float] | None:
    if not values:
        return None
    low, middle, high = np.percentile(values, PERCENTILES)
    return float(low), float(middle), float(high)


def _only(tolerances: Tolerances, kept: str) -> Tolerances:
    return tolerances.model_copy(update={name: 0.0 for name in CONTRIBUTORS if name != kept})


def _levels(
    document: Filter, mode: str, frequency_hz: FloatArray, cutoff_hz: float, resonance_percent: float, units: int
) -> FloatArray:
    """(units, n) dB of drawn units. A unit past its onset is shown by the curve of its equations, as the drawing is."""
    network = document.network()
    drawn = [draw_numbers(document.tolerances, network, seed) for seed in range(units)]
    gains = gains_of_units(
        network, frequency_hz, mode, faster=np.array([unit.faster for unit in drawn]),
        cutoffs_hz=np.array([unit.cutoff_hz(cutoff_hz) for unit in drawn]),
        gains=document.gain_at(resonance_percent) * np.array([unit.gain_factor for unit in drawn]),
    )
    return level_db(gains * np.array([unit.level for unit in drawn])[:, np.newaxis])
