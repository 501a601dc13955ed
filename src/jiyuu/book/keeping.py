"""A measurement into a book: raw records, curve and findings in one transaction."""

from __future__ import annotations

from typing import TYPE_CHECKING

from jiyuu.book.store import Book, StoredCurve

if TYPE_CHECKING:  # a window that only opens a book does not measure yet
    from jiyuu.rig.level_run import LevelRun
    from jiyuu.rig.resonance_run import ResonanceRun
    from jiyuu.rig.response_run import ResponseRun


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


def keep_levels(book: Book, filter_id: int, run: LevelRun, *, source: str) -> list[int]:
    """Writes a run of the Setup step; returns the rows of its findings."""
    rate = run.sample_rate_hz
    _, findings = book.add_run(
        filter_id, "Setup", run.settings, source=source,
        records={"source": (run.source_v, rate), "recording": (run.recording_v, rate)}, curve=None,
        findings=run.findings,
    )
    return findings
