"""What the resonance control does to a source: its level behind the filter, by small signal and then by simulation."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import level_db
from jiyuu.circuits.network import Network
from jiyuu.measurement.resonance_curves import output_level_db
from jiyuu.prediction.resonance import ResonanceStudy, study_resonance
from jiyuu.signals.source import RECORD_RATE_HZ, Source, mixed_lines, mixed_record
from jiyuu.simulation.source_levels import source_levels

SIMULATED_S = 0.3  # of source at each position
SIMULATED_POSITIONS = 21


@dataclass(frozen=True, slots=True, eq=False)
class OutputCurve:
    """Level of the source behind the filter against position_percent (p,): output_db (p,) re the source, peak_v (p,).
    simulated: with saturation and whistle; else by the small-signal curves, below the onset."""

    position_percent: FloatArray
    output_db: FloatArray
    peak_v: FloatArray
    simulated: bool


@dataclass(frozen=True, slots=True, eq=False)
class Studied:
    """A finished study with the output curve that is known by now, and the same study at the other end of the
    compensation, where the circuit has one."""

    study: ResonanceStudy
    output: OutputCurve
    other: ResonanceStudy | None
    other_name: str


def studied(
    document: Filter, network: Network, mode: str, sources: Sequence[Source], *, cutoff_hz: float, drive: float,
) -> Iterator[Studied]:
    """The study early, with the output by small signal, and then by simulation. drive: factor ahead of the filter.
    Raises JiyuuError where a source cannot be played."""
    study = study_resonance(document, network, mode, cutoff_hz=cutoff_hz)
    hertz, volts = mixed_lines(sources)
    levels = output_level_db(hertz, volts**2, study.frequency_hz, study.level_db)
    record = mixed_record(sources, duration_s=SIMULATED_S) * drive
    loudest = np.abs(record).max()
    linear = OutputCurve(study.curves.position_percent, levels, loudest * 10 ** (levels / 20), simulated=False)
    found = Studied(study, linear, *_other_compensation(document, mode, cutoff_hz))
    yield found
    simulated = _simulated(document, network, mode, record, cutoff_hz)
    if simulated is not None:
        yield replace(found, output=simulated)


def _other_compensation(document: Filter, mode: str, cutoff_hz: float) -> tuple[ResonanceStudy | None, str]:
    """The study with the compensation at its other end; (None, '') for a circuit without one."""
    values = document.entry.values(document.parameters)
    if "compensation" not in values:
        return None, ""
    other = 0.0 if values["compensation"] > 0.5 else 1.0
    changed = document.model_copy(update={"parameters": {**document.parameters, "compensation": other}})
    study = study_resonance(changed, changed.network(), mode, cutoff_hz=cutoff_hz, with_proposals=False)
    return study, f"compensation {other:g}"


def _simulated(
    document: Filter, network: Network, mode: str, record: FloatArray, cutoff_hz: float
) -> OutputCurve | None:
    """Over the whole travel; None for a silent source."""
    percent = np.linspace(0.0, 100.0, SIMULATED_POSITIONS)
    source_rms = float(np.sqrt(np.mean(record[record.size // 2 :] ** 2)))
    levels = list(source_levels(network, record, RECORD_RATE_HZ, mode, cutoff_hz=cutoff_hz,
                                gains=document.gains_at(percent), rail_v=document.tolerances.rail_v))
    if source_rms <= 0:
        return None
    rms = np.array([level.rms_v for level in levels])
    peaks = np.array([level.peak_v for level in levels])
    return OutputCurve(percent, level_db(rms / source_rms), peaks, simulated=True)
