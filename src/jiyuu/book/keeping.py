"""A measurement into a book: raw records, curve and findings in one transaction."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jiyuu.book.store import Book, StoredCurve
from jiyuu.measurement.curve_reading import read_curve
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.findings import READ_FROM_CURVE
from jiyuu.signals.response_table import on_even_grid, read_response_table

if TYPE_CHECKING:  # a window that only opens a book does not measure yet
    from jiyuu.rig.level_run import LevelRun
    from jiyuu.rig.oscillation_run import OscillationRun
    from jiyuu.rig.resonance_run import ResonanceRun
    from jiyuu.rig.response_run import ResponseRun
    from jiyuu.rig.tracking_run import TrackingRun


TABLE_PER_OCTAVE = 48


def stored_curve(run: ResponseRun) -> StoredCurve:
    """The measured curve at 48 points an octave."""
    response, every = run.response, slice(None, None, 4)
    return StoredCurve(
        response.frequency_hz[every], response.level_db[every], response.phase_deg[every],
        response.level_uncertainty_db[every], response.snr_db[every],
    )


def keep_run(book: Book, filter_id: int, run: ResponseRun, *, source: str) -> list[int]:
    """Writes the run; returns the rows of its findings."""
    _, findings = book.add_run(
        filter_id, "Response", run.settings, source=source,
        records={
            "stimulus": (run.stimulus_v, run.sample_rate_hz), "recording": (run.recording_v, run.sample_rate_hz)
        },
        curve=stored_curve(run), findings=run.findings,
    )
    return findings


def keep_table(book: Book, filter_id: int, path: Path, settings: Mapping[str, Any]) -> list[int]:
    """Reads another instrument's curve (Hz, dB, degrees) and writes it as a run; returns the rows of its findings.

    Raises SignalError or MeasurementError where the file is no curve; nothing is written then."""
    curve = on_even_grid(read_response_table(path), per_octave=TABLE_PER_OCTAVE)
    doubt = np.zeros(curve.level_db.size) if curve.uncertainty_db is None else curve.uncertainty_db
    reading = read_curve(curve.frequency_hz, curve.level_db, level_uncertainty_db=doubt)
    findings = [
        Finding(name, value, unit, settings=settings) for name, unit in READ_FROM_CURVE
        if (value := getattr(reading, name)) is not None
    ]
    phase = np.zeros(doubt.size) if curve.phase_deg is None else np.rad2deg(np.unwrap(np.deg2rad(curve.phase_deg)))
    # An instrument that states no noise is taken at its word.
    stored = StoredCurve(curve.frequency_hz, curve.level_db, phase, doubt, np.full(doubt.size, 120.0))
    _, rows = book.add_run(filter_id, "Response", dict(settings), source=path.name, records={}, curve=stored,
                           findings=findings)
    return rows


def keep_resonance(book: Book, filter_id: int, run: ResonanceRun, *, source: str) -> list[int]:
    """Writes a run over the resonance control; returns the rows of its findings."""
    rate = run.sample_rate_hz
    records = {f"recording {percent:.4g} %": (recording, rate)
               for percent, recording in zip(run.settings["position_percent"], run.recordings_v, strict=False)}
    _, findings = book.add_run(
        filter_id, "Resonance", run.settings, source=source, records={"stimulus": (run.stimulus_v, rate), **records},
        curve=None, findings=run.findings,
    )
    return findings


def keep_oscillation(book: Book, filter_id: int, run: OscillationRun, *, source: str) -> list[int]:
    """Writes a run of the Self-oscillation step; returns the rows of its findings."""
    _, findings = book.add_run(
        filter_id, "Self-oscillation", run.settings, source=source,
        records={"recording": (run.recording_v, run.sample_rate_hz)}, curve=None, findings=run.findings,
    )
    return findings


def keep_tracking(book: Book, filter_id: int, run: TrackingRun, *, source: str) -> list[int]:
    """Writes a run of the Tracking step with its table; returns the rows of its findings."""
    rate = run.sample_rate_hz
    _, findings = book.add_run(
        filter_id, "Tracking", run.settings, source=source,
        records={"control volts": (run.cv_v, rate), "recording": (run.recording_v, rate)}, curve=None,
        findings=run.findings,
    )
    return findings


def keep_levels(book: Book, filter_id: int, run: LevelRun, *, source: str) -> list[int]:
    """Writes a run of the Setup step; returns the rows of its findings."""
    rate = run.sample_rate_hz
    _, findings = book.add_run(
        filter_id, "Setup", run.settings, source=source,
        records={"source": (run.source_v, rate), "recording": (run.recording_v, rate)}, curve=None,
        findings=run.findings,
    )
    return findings
