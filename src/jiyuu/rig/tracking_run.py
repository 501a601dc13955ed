"""The Tracking step on a rig: step the control volts, count; and turn the trims as advised.

A filter that whistles is played once, through a staircase of control volts, and its tone is counted on every step,
just as in a recording made by hand. One that does not is swept at every step, and its -3 dB point or peak is tracked.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.findings import read_response
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.response import measure_response
from jiyuu.measurement.staircase import checked_volts, measure_staircase
from jiyuu.measurement.steady_pieces import Piece, find_pieces
from jiyuu.measurement.step_tone import StepTone, step_tone
from jiyuu.measurement.tracking import Drift, Readings, Tracking, drift, read_tracking, readings_of
from jiyuu.prediction.trim_advice import Advice, advise
from jiyuu.progress import Progress
from jiyuu.rig.onset_search import impulse_grows
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.rig.tracking_request import TrackingRequest, swept_request
from jiyuu.signals.stimuli import impulse
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

STEP_S, PERIODS = 0.2, 20  # how long a step sounds: at least, and in periods of its tone
STARTING_S, STARTING_HZ = 0.25, 8000.0
KICK_S, KICK_V = 0.02, 0.05
LATEST_S = 0.1  # latency of any rig one would measure with
SWEEP_V = 0.05
SIDE_BY_SIDE = 4


@dataclass(frozen=True, slots=True, eq=False)
class TrackingRun:
    """The table as judged, the advice, the raw record with the control volts that made it. request: as it was carried
    out; unread: volts without a reading; pitch_ratio: hertz of tone per hertz of pole."""

    request: TrackingRequest
    tracking: Tracking
    advice: Advice
    held: Drift | None
    unread: tuple[str, ...]
    pitch_ratio: float
    cv_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    notices: tuple[Notice, ...] = ()


def run_tracking(request: TrackingRequest, rig: Rig) -> Iterator[Progress | TrackingRun]:
    """Yields progress, then the run. Stop iterating to cancel. Raises MeasurementError where the filter does not
    whistle at the resonance given, or too few steps can be read."""
    checked_volts(request.volts)
    if request.by_sweeps:
        yield from _swept(request, rig)
    else:
        yield from _counted(request, rig)


def possible_request(request: TrackingRequest, rig: Rig) -> TrackingRequest:
    """The same by sweeps where this build does not whistle although its drawing does."""
    if request.by_sweeps:
        return request
    panel = PanelSettings(STARTING_HZ, request.resonance_percent, request.trims, request.temperature_c)
    if impulse_grows(rig, panel, request.mode, level_v=KICK_V):
        return request
    return swept_request(request.mode, trims=request.trims, temperature_c=request.temperature_c,
                         tolerance_cents=request.tolerance_cents)


def _counted(request: TrackingRequest, rig: Rig) -> Iterator[Progress | TrackingRun]:
    rate = rig.sample_rate_hz
    volts = np.array(request.volts)
    lengths = np.maximum(STEP_S, PERIODS / (request.start_hz * 2.0**volts))
    # A tone starts within some hundred of its periods: high up that is soon, and then it sounds on through every step.
    high_v = max(float(volts.max()), float(np.log2(STARTING_HZ / request.start_hz)))
    passages = [(high_v, STARTING_S), *zip(volts.tolist(), lengths.tolist(), strict=True)]
    if request.hold_s:
        passages.append((float(volts[0]), request.hold_s))
    cv_v = np.concatenate([np.full(round(s * rate), v) for v, s in passages])
    kick = impulse(sample_rate_hz=rate, level_v=KICK_V, burst_s=KICK_S, duration_s=cv_v.size / rate)
    yield Progress("Stepping the control volts", 0.05)
    panel = PanelSettings(request.start_hz, request.resonance_percent, request.trims, request.temperature_c)
    recording_v = rig.play(kick, panel, [request.mode], cutoff_cv_v=cv_v)[0]
    yield Progress("Counting", 0.7)
    ends_s = np.cumsum([round(s * rate) for _, s in passages]) / rate
    tones = _tones(recording_v, rate, ends_s)
    found = [tones[i + 1] for i in range(volts.size)]
    silent = [f"{v:g} V" for v, tone in zip(volts, found, strict=True) if tone is None]
    if len(silent) == volts.size:
        raise MeasurementError(
            f"The filter does not whistle at {request.resonance_percent:.1f} % resonance; turn it up past its onset, "
            "or track its -3 dB point with sweeps."
        )
    kept = [(v, tone) for v, tone in zip(volts, found, strict=True) if tone is not None]
    if len(kept) < 2:
        raise MeasurementError("The filter whistles on one step only; choose a range it reaches.")
    readings = Readings(
        np.array([v for v, _ in kept]), np.array([t.frequency_hz.value for _, t in kept]),
        np.array([t.frequency_hz.uncertainty for _, t in kept]), np.array([t.amplitude_peak_v for _, t in kept]),
        np.array([np.nan if t.settled_s is None else t.settled_s for _, t in kept]),
    )
    held = _held(recording_v, rate, ends_s) if request.hold_s else None
    yield _run(request, rate, readings, cv_v, recording_v, silent, held)


def _tones(recording_v: FloatArray, rate: float, ends_s: FloatArray) -> list[StepTone | None]:
    """The tone of every passage, None where there is none: the longest steady piece between its ends."""
    pieces = find_pieces(recording_v, rate)
    found: list[StepTone | None] = []
    for i, end_s in enumerate(ends_s):
        start_s = float(ends_s[i - 1]) if i else 0.0
        last = i == ends_s.size - 1  # the rig plays on a little with the last volts
        own = [p for p in pieces if start_s - 0.01 < p.start_s < end_s and (p.stop_s < end_s + LATEST_S or last)]
        if not own:
            found.append(None)
            continue
        piece = max(own, key=lambda p: p.duration_s)
        place = pieces.index(piece)
        low = pieces[place - 1].stop_s if place else piece.start_s
        high = pieces[place + 1].start_s if place + 1 < len(pieces) else piece.stop_s
        found.append(step_tone(recording_v, rate, piece, from_s=low, to_s=high))
    return found


def _held(recording_v: FloatArray, rate: float, ends_s: FloatArray) -> Drift | None:
    """The held tone read every second or twentieth of it."""
    start_s, stop_s = float(ends_s[-2]) + 0.2, float(ends_s[-1])
    pieces = [p for p in find_pieces(recording_v, rate) if p.start_s < stop_s and p.stop_s > start_s + 0.5]
    if not pieces:
        return None
    whole = max(pieces, key=lambda p: p.duration_s)
    edges = np.linspace(max(start_s, whole.start_s), min(stop_s, whole.stop_s), 13)
    tones = [step_tone(recording_v, rate, Piece(float(a), float(b), whole.frequency_hz, whole.level_db))
             for a, b in pairwise(edges)]
    kept = [tone for tone in tones if tone is not None]
    if len(kept) < 3:
        return None
    return drift(np.array([0.5 * (t.start_s + t.stop_s) / 60 for t in kept]),
                 np.array([t.frequency_hz.value for t in kept]))


def _swept(request: TrackingRequest, rig: Rig) -> Iterator[Progress | TrackingRun]:
    rate = rig.sample_rate_hz
    stimulus_v = sweep_stimulus(SweepPlan(level_v=SWEEP_V, sweep_s=1.0, silence_s=0.35), sample_rate_hz=rate)
    panel = PanelSettings(request.start_hz, request.resonance_percent, request.trims, request.temperature_c)
    volts = request.volts
    recordings: list[FloatArray] = []
    places: list[tuple[float, float] | None] = []
    for first in range(0, len(volts), SIDE_BY_SIDE):
        yield Progress(f"Sweeps from {volts[first]:g} V on", 0.05 + 0.9 * first / len(volts))
        batch = volts[first : first + SIDE_BY_SIDE]
        played = rig.play_each(stimulus_v, [panel] * len(batch), [request.mode], held_v=batch)[:, 0]
        recordings += list(played)
        places += side_by_side(lambda recording: _place(stimulus_v, recording, rate), played)
    unread = [f"{v:g} V" for v, place in zip(request.volts, places, strict=True) if place is None]
    kept = [(v, place) for v, place in zip(request.volts, places, strict=True) if place is not None]
    if len(kept) < 2:
        raise MeasurementError("Neither a -3 dB point nor a peak can be read at these volts; choose a range inside "
                               "what a sweep reaches, from 100 Hz to 10 kHz.")
    nothing = np.full(len(kept), np.nan)
    readings = Readings(np.array([v for v, _ in kept]), np.array([p[0] for _, p in kept]),
                        np.array([p[1] for _, p in kept]), nothing, nothing)
    yield _run(request, rate, readings, np.array(request.volts), np.concatenate(recordings), unread, None)


def _place(stimulus_v: FloatArray, recording_v: FloatArray, rate: float) -> tuple[float, float] | None:
    """The −3 dB point, or the peak of what has none; with its uncertainty."""
    try:
        read = read_response(measure_response(stimulus_v, recording_v, rate))
    except MeasurementError:
        return None
    for name in ("cutoff_3db_hz", "peak_hz", "notch_hz"):
        value = getattr(read.reading, name)
        if value is not None:
            return float(value), float(read.uncertainty.get(name, 1e-4 * value))
    return None


def evaluate_recording(
    request: TrackingRequest, recording_v: FloatArray, sample_rate_hz: float, *, harmonic: int | None = None
) -> TrackingRun:
    """A staircase recorded by other means, its steps at the volts of the request. harmonic: which one sounds loudest,
    found when not given. Raises MeasurementError where they do not fit."""
    found = measure_staircase(recording_v, sample_rate_hz, request.volts, harmonic=harmonic)
    missing = [f"{v:g} V" for v in found.missing_volts]
    run = _run(replace(request, by_sweeps=False), sample_rate_hz, readings_of(found), np.array(request.volts),
               recording_v, missing, None, knob_known=False)
    return replace(run, notices=found.notices)


def _run(
    request: TrackingRequest, sample_rate_hz: float, readings: Readings, cv_v: FloatArray, recording_v: FloatArray,
    unread: Sequence[str], held: Drift | None, *, knob_known: bool = True,
) -> TrackingRun:
    reference = request.reference_v
    if reference is not None and not np.any(np.abs(readings.volts - reference) < 1e-9):
        reference = None
    tracking = read_tracking(readings, reference_v=reference, tolerance_cents=request.tolerance_cents,
                             zero_hz=request.start_hz)
    # The knob says about where the pole is; how the tone lies to it follows from the circuit, its resonance and gain.
    ratio = 1.0
    if knob_known:
        ratio = float(2 ** np.mean(np.log2(readings.frequency_hz / request.start_hz) - readings.volts))
    advice = advise(tracking, target_hz=request.target_hz, trims=request.trims, pitch_ratio=ratio)
    return TrackingRun(request, tracking, advice, held, tuple(unread), ratio, cv_v, recording_v, sample_rate_hz)
