"""The Resonance step on a rig: a sweep at every position of the control, the onset by halving, the taper.

Below the onset each position is a response; from the first position at which the filter whistles on there is nothing
a sweep could measure, and the onset is narrowed down between the last that dies away and the first that does not.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.resonance_curves import ResonanceCurves, body_place_hz, read_resonance
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.measurement.taper import PEAK_CEILING_DB, TaperReading, read_taper
from jiyuu.progress import Progress
from jiyuu.rig.onset_search import search_onset
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

SMALL_V = 0.02  # near the onset a peak of 30 dB must still be small beside the stages' headroom
POSITIONS = 21
SIDE_BY_SIDE = 8


@dataclass(frozen=True, slots=True)
class ResonanceRequest:
    """Everything a run needs. position_percent: rising, the first one 0 for a taper."""

    panel: PanelSettings
    mode: str
    position_percent: tuple[float, ...] = tuple(np.linspace(0.0, 100.0, POSITIONS).tolist())
    plan: SweepPlan = field(default_factory=lambda: SweepPlan(level_v=SMALL_V, sweep_s=1.0, silence_s=0.35))


@dataclass(frozen=True, slots=True, eq=False)
class ResonanceRun:
    """Measured positions below the onset: level_db (p, n) over frequency_hz (n,), read as curves; the onset with its
    uncertainty (both None when the filter never whistled); the taper, None with why. recordings_v: (p, m) raw."""

    stimulus_v: FloatArray
    recordings_v: FloatArray
    sample_rate_hz: float
    frequency_hz: FloatArray
    level_db: FloatArray
    curves: ResonanceCurves
    onset_percent: float | None
    onset_uncertainty: float | None
    taper: TaperReading | None
    why_no_taper: str


def run_resonance(request: ResonanceRequest, rig: Rig) -> Iterator[Progress | ResonanceRun]:
    """Yields progress, then the run. Raises MeasurementError when fewer than two positions can be measured."""
    stimulus_v = sweep_stimulus(request.plan, sample_rate_hz=rig.sample_rate_hz)
    onset: tuple[float, float] | None = None
    wanted = request.position_percent
    percents: list[float] = []
    recordings: list[FloatArray] = []
    responses: list[MeasuredResponse] = []
    for first in range(0, len(wanted), SIDE_BY_SIDE):
        batch = wanted[first : first + SIDE_BY_SIDE]
        yield Progress(f"Resonance from {batch[0]:.0f} %", 0.9 * first / len(wanted))
        panels = [replace(request.panel, resonance_percent=percent) for percent in batch]
        heard = []
        for percent, recording in zip(batch, rig.play_each(stimulus_v, panels, [request.mode])[:, 0], strict=True):
            if _whistles(recording, stimulus_v, rig.sample_rate_hz):
                onset = (percents[-1] if percents else 0.0, percent)
                break
            heard.append(recording)
            percents.append(percent)
        recordings += heard
        responses += side_by_side(
            lambda record: measure_response(stimulus_v, record, rig.sample_rate_hz, quickly=True), heard)
        if onset is not None:
            break
    if len(responses) < 2:
        raise MeasurementError("The filter whistles from the first positions on; turn its resonance trim down first.")
    onset_percent = onset_doubt = None
    if onset is not None:
        panel = replace(request.panel, resonance_percent=0.0)
        for step in search_onset(rig, panel, request.mode, *onset, level_v=request.plan.level_v):
            if isinstance(step, Progress):
                yield Progress(step.text, 0.9 + 0.1 * step.share)
            else:
                onset_percent, onset_doubt = step.value, step.uncertainty
    yield _run(request, rig, stimulus_v, recordings, percents, responses, onset_percent, onset_doubt)


def _whistles(recording_v: FloatArray, stimulus_v: FloatArray, sample_rate_hz: float) -> bool:
    """Whether the end of the recording, long after the last sweep, is as loud as a tenth of what came before."""
    tail = recording_v[-round(0.1 * sample_rate_hz) :]
    before = recording_v[: stimulus_v.size]
    return float(np.std(tail)) > 0.1 * float(np.std(before))


def _stretch_with(clear: NDArray[np.bool_], frequency_hz: FloatArray, place_hz: float) -> slice:
    """The stretch of clear points around a frequency: the noisiest position bounds what is read at every one."""
    here = int(np.argmin(np.abs(frequency_hz - place_hz)))
    if not clear[here]:
        raise MeasurementError(f"At {place_hz:.0f} Hz, where body is read, the noise is too strong; raise the level.")
    broken = np.flatnonzero(~clear)
    before, after = broken[broken < here], broken[broken > here]
    return slice(int(before[-1]) + 1 if before.size else 0, int(after[0]) if after.size else clear.size)


def _run(
    request: ResonanceRequest, rig: Rig, stimulus_v: FloatArray, recordings: list[FloatArray], percent: list[float],
    responses: list[MeasuredResponse], onset_percent: float | None, onset_doubt: float | None,
) -> ResonanceRun:
    frequency_hz = responses[0].frequency_hz
    octave = np.log2(frequency_hz)
    level_db, doubt_db, snr_db = (
        np.stack([np.interp(octave, np.log2(r.frequency_hz), getattr(r, name)) for r in responses])
        for name in ("level_db", "level_uncertainty_db", "snr_db")
    )
    clear = np.all(snr_db > 10, axis=0)
    kind = read_response(responses[0]).reading.kind
    cutoff_hz = request.panel.cutoff_hz
    keep = _stretch_with(clear, frequency_hz, body_place_hz(kind, cutoff_hz))
    positions = np.array(percent)
    curves = read_resonance(
        positions, frequency_hz[keep], level_db[:, keep], cutoff_hz=cutoff_hz, kind=kind,
        level_uncertainty_db=doubt_db[:, keep],
    )
    taper, why, amount = None, "", curves.amount_db
    if amount is None:
        why = "This mode has no peak to judge the control by."
    else:
        try:
            taper = read_taper(positions, amount, onset_percent=onset_percent, ceiling_db=PEAK_CEILING_DB)
        except MeasurementError as error:
            why = str(error)
    length = max(recording.size for recording in recordings)
    raw = np.stack([np.pad(recording, (0, length - recording.size)) for recording in recordings])
    return ResonanceRun(
        stimulus_v, raw, rig.sample_rate_hz, frequency_hz[keep], level_db[:, keep], curves, onset_percent, onset_doubt,
        taper, why,
    )
