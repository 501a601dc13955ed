"""The Resonance step on a rig: a sweep at every position of the control, the onset by halving, the taper.

Below the onset each position is a response; from the first position at which the filter whistles on there is nothing
a sweep could measure, and the onset is narrowed down between the last that dies away and the first that does not.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.extended import extended
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.resonance_curves import ResonanceCurves, body_place_hz, read_resonance
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.measurement.taper import PEAK_CEILING_DB, TaperReading, read_taper
from jiyuu.progress import Progress
from jiyuu.rig.onset_search import search_onset
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

SMALL_V = 0.02
LEAST_V = 5e-4  # softer sweeps drown in a unit's noise
SOFTER, SOFT_ROUNDS = 3.0, 4
PROMINENT_DB = 12.0
COMPRESSED_DB = 0.03  # what may be missing of a peak
POSITIONS = 21
SIDE_BY_SIDE = 8
CLEAR_DB, HIDDEN_DB = 10.0, 0.5  # over the noise; by how much a peak may be lower in the band that is read
PEAK_DB = 12.0  # under its top a peak is played softer for; further down nothing is compressed


def evenly(count: int) -> tuple[float, ...]:
    """So many positions over the whole travel, %."""
    return tuple(np.linspace(0.0, 100.0, count).tolist())


@dataclass(frozen=True, slots=True)
class ResonanceRequest:
    """Everything a run needs. position_percent: rising, the first one 0 for a taper."""

    panel: PanelSettings
    mode: str
    position_percent: tuple[float, ...] = evenly(POSITIONS)
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
            if _whistles(recording, recordings[0] if recordings else recording, rig.sample_rate_hz):
                onset = (percents[-1] if percents else 0.0, percent)
                break
            heard.append(recording)
            percents.append(percent)
        recordings += heard
        if heard and not responses:
            responses.append(measure_response(stimulus_v, heard.pop(0), rig.sample_rate_hz))
        network = responses[-1].network if responses else None
        measure = partial(measure_response, stimulus_v, sample_rate_hz=rig.sample_rate_hz, quickly=True,
                          like=None if network is None else network.fit)
        responses += side_by_side(measure, heard)
        if onset is not None:
            break
    if len(responses) < 2:
        raise MeasurementError("The filter whistles from the first positions on; turn its resonance trim down first.")
    softer: dict[int, MeasuredResponse] = {}
    for found in _softer(request, rig, percents, responses):
        if isinstance(found, Progress):
            yield found
        else:
            softer = found
    onset_percent = onset_doubt = None
    if onset is not None:
        panel = replace(request.panel, resonance_percent=0.0)
        for step in search_onset(rig, panel, request.mode, *onset, level_v=request.plan.level_v):
            if isinstance(step, Progress):
                yield Progress(step.text, 0.9 + 0.1 * step.share)
            else:
                onset_percent, onset_doubt = step.value, step.uncertainty
    yield _run(request, rig, stimulus_v, recordings, percents, responses, softer, onset_percent, onset_doubt)


def _whistles(recording_v: FloatArray, first_v: FloatArray, sample_rate_hz: float) -> bool:
    """Whether the end of the recording, long after the last sweep, is as loud as a tenth of what came before, and far
    louder than that of the first position. At that one nothing is known of the noise yet."""
    last = round(0.1 * sample_rate_hz)
    tail, before = float(np.std(recording_v[-last:])), float(np.std(recording_v[:-last]))
    return tail > 0.5 * before or (tail > 0.1 * before and tail > 5 * float(np.std(first_v[-last:])))


def _softer(
    request: ResonanceRequest, rig: Rig, percents: list[float], responses: list[MeasuredResponse]
) -> Iterator[Progress | dict[int, MeasuredResponse]]:
    """Once more, with softer and softer sweeps, the positions with a peak, until it grows no more by that: what a soft
    stage takes off it is as the square of the level. By their places, with those that noise did not drown."""
    like = next((response.network.fit for response in responses if response.network is not None), None)
    found: dict[int, MeasuredResponse] = {}
    first_db = float(responses[0].level_db.max())
    asked = {i: request.plan.level_v / SOFTER for i, response in enumerate(responses)
             if _prominence_db(response, first_db) > PROMINENT_DB}
    for _ in range(SOFT_ROUNDS):
        if not asked:
            break
        yield Progress(f"Softer, from {percents[min(asked)]:.0f} %", 0.8 + 0.1 * len(found) / len(responses))
        level_v = max(min(asked.values()), LEAST_V)
        stimulus_v = sweep_stimulus(replace(request.plan, level_v=level_v), sample_rate_hz=rig.sample_rate_hz)
        panels = [replace(request.panel, resonance_percent=percents[i]) for i in asked]
        again: dict[int, float] = {}
        measure = partial(_unless_drowned, stimulus_v, sample_rate_hz=rig.sample_rate_hz, like=like)
        heard = rig.play_each(stimulus_v, panels, [request.mode])[:, 0]
        for i, soft in zip(asked, side_by_side(measure, heard), strict=True):
            before = found.get(i, responses[i])
            ratio = (before.level_v or request.plan.level_v) / level_v
            if soft is None:
                again[i] = level_v * float(np.sqrt(ratio))
                continue
            found[i] = soft
            remains_db = (_highest_db(soft) - _highest_db(before)) / (ratio**2 - 1)
            if remains_db > COMPRESSED_DB and level_v > LEAST_V:
                again[i] = level_v * max(float(np.sqrt(0.5 * COMPRESSED_DB / remains_db)), 1 / SOFTER**2)
        asked = again
    yield found


def _unless_drowned(
    stimulus_v: FloatArray, recording_v: FloatArray, *, sample_rate_hz: float, like: NetworkFit | None
) -> MeasuredResponse | None:
    try:
        return measure_response(stimulus_v, recording_v, sample_rate_hz, quickly=True, like=like)
    except MeasurementError:
        return None


def _highest_db(response: MeasuredResponse) -> float:
    return float(response.level_db.max()) if response.network is None else float(
        response.network.fit.level_db(response.frequency_hz).max())


def _prominence_db(response: MeasuredResponse, first_db: float) -> float:
    """Of the peak, over what lies half of the band aside, or over what the first position passes at its best."""
    level = response.level_db
    top = float(level.max())
    return max(top - float(np.median(level)), top - first_db) if 0 < int(level.argmax()) < level.size - 1 else 0.0


def _stretch_with(clear: NDArray[np.bool_], frequency_hz: FloatArray, place_hz: float) -> slice:
    """The stretch of clear points around a frequency: the noisiest position bounds what is read at every one."""
    here = int(np.argmin(np.abs(frequency_hz - place_hz)))
    if not clear[here]:
        raise MeasurementError(f"At {place_hz:.0f} Hz, where body is read, the noise is too strong; raise the level.")
    broken = np.flatnonzero(~clear)
    before, after = broken[broken < here], broken[broken > here]
    return slice(int(before[-1]) + 1 if before.size else 0, int(after[0]) if after.size else clear.size)


def _peaks_within(keep: slice, level_db: FloatArray, snr_db: FloatArray) -> NDArray[np.intp]:
    """Places of the positions whose highest clear point lies in the band that is read: of the others it would be taken
    for lower than it is. Raises MeasurementError where fewer than two are left."""
    highest = np.where(snr_db > CLEAR_DB, level_db, -np.inf)
    inside = np.flatnonzero(highest[:, keep].max(axis=1) > highest.max(axis=1) - HIDDEN_DB)
    if inside.size < 2:
        raise MeasurementError("The peak lies where the noise is too strong to see it; raise the level.")
    return inside


def _run(
    request: ResonanceRequest, rig: Rig, stimulus_v: FloatArray, recordings: list[FloatArray], percent: list[float],
    responses: list[MeasuredResponse], softer: dict[int, MeasuredResponse], onset_percent: float | None,
    onset_doubt: float | None,
) -> ResonanceRun:
    frequency_hz = responses[0].frequency_hz
    octave = np.log2(frequency_hz)

    def over_octaves(response: MeasuredResponse) -> FloatArray:
        """(3, n) level, its uncertainty, SNR."""
        return np.stack([np.interp(octave, np.log2(response.frequency_hz), values) for values in (
            response.level_db, response.level_uncertainty_db, response.snr_db)])

    rows = [over_octaves(response) for response in responses]
    for i, response in softer.items():
        soft = over_octaves(response)
        # Where the softer sweep drowns, what a soft stage took off the louder one is the lesser evil.
        rows[i] = np.where((soft[0] > soft[0].max() - PEAK_DB) & (soft[2] > CLEAR_DB), soft, rows[i])
    level_db, doubt_db, snr_db = np.stack(rows, axis=1)
    clear = np.all(snr_db > CLEAR_DB, axis=0)
    kind = read_response(responses[0]).reading.kind
    cutoff_hz = request.panel.cutoff_hz
    keep = _stretch_with(clear, frequency_hz, body_place_hz(kind, cutoff_hz))
    seen = _peaks_within(keep, level_db, snr_db)
    positions = np.array(percent)[seen]
    curves = read_resonance(
        positions, frequency_hz[keep], level_db[seen][:, keep], cutoff_hz=cutoff_hz, kind=kind,
        level_uncertainty_db=doubt_db[seen][:, keep],
        exact=[extended(softer.get(i, responses[i])).exact for i in seen],
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
    raw = np.stack([np.pad(recordings[i], (0, length - recordings[i].size)) for i in seen])
    return ResonanceRun(
        stimulus_v, raw, rig.sample_rate_hz, frequency_hz[keep], level_db[seen][:, keep], curves, onset_percent,
        onset_doubt, taper, why,
    )
