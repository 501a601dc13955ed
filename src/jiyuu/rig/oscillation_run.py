"""The Self-oscillation step on a rig: onset, the settled tone, pitch and level over the control and over the range."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.start_up import start_up_s
from jiyuu.measurement.tone import MeasuredTone, measure_tone
from jiyuu.measurement.tone_faults import read_tone
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.whistle import BalancePoint, WhistleLevel, find_balance, whistle_level
from jiyuu.progress import Progress
from jiyuu.rig.onset_search import impulses_grow, search_onset
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.rig.tracking_request import VOLTS, TrackingRequest
from jiyuu.rig.tracking_run import run_tracking
from jiyuu.signals.source import PITCHED, Source
from jiyuu.signals.stimuli import impulse

SMALL_V, LOUD_V, KICK_S = 0.02, 0.3, 0.02  # a loud impulse near the onset, where growing takes long
POSITIONS = 8  # from the onset to the end
TONE_S, LONGEST_S = 0.5, 4.0
SETTLED_SHARE = 0.01  # by which the level of the last half may differ from that of the half before
BALANCE_S, BALANCE_HEARD_S = 0.7, 0.4


@dataclass(frozen=True, slots=True)
class OscillationRequest:
    """Everything a run needs. The panel's resonance: where the tone is looked at; where the filter does not whistle
    there, at the end of the control. source: what the whistle is set against."""

    panel: PanelSettings
    mode: str
    source: Source = field(default_factory=Source)
    balance_db: float = -6.0
    concert_a_hz: float = 440.0
    over_range: bool = True


@dataclass(frozen=True, slots=True, eq=False)
class OscillationRun:
    """position_percent (p,) past the onset with pull_hz, pull_cents (re the lowest of them) and pull_v there (p,);
    range_hz and range_v (q,): level of the tone over its range, empty where not asked for. recording_v: from an impulse
    to the settled tone at tone_percent."""

    onset_percent: Uncertain
    tone: MeasuredTone
    tone_percent: float
    start_up_s: float | None
    position_percent: FloatArray
    pull_hz: FloatArray
    pull_cents: FloatArray
    pull_v: FloatArray
    range_hz: FloatArray
    range_v: FloatArray
    balance: BalancePoint | None
    recording_v: FloatArray
    sample_rate_hz: float
    notices: tuple[Notice, ...] = ()  # of the tone


def run_oscillation(request: OscillationRequest, rig: Rig) -> Iterator[Progress | OscillationRun]:
    """Yields progress, then the run: onset, tone, pull, level over the range, balance point, one after the other.
    Raises MeasurementError where the filter whistles nowhere on its control, or everywhere."""
    yield Progress("Does it whistle at all?", 0.02)
    _check_whistles(request, rig)
    rate, onset = rig.sample_rate_hz, Uncertain(0.0, 0.0)
    at_end = replace(request.panel, resonance_percent=100.0)
    for step in search_onset(rig, at_end, request.mode, 0.0, 100.0, level_v=SMALL_V):
        if isinstance(step, Progress):
            yield Progress(step.text, 0.05 + 0.3 * step.share)
        else:
            onset = step
    wanted = request.panel.resonance_percent
    at = wanted if wanted > onset.value + onset.uncertainty else 100.0
    yield Progress("Tone", 0.38)
    recording_v = settled_tones(rig, [replace(request.panel, resonance_percent=at)], request.mode, SMALL_V)[0]
    tone, notices = read_tone(recording_v[-round(TONE_S * rate) :], rate, concert_a_hz=request.concert_a_hz)
    ahead_s = recording_v.size / rate - TONE_S
    notices = [replace(one, at_s=None if one.at_s is None else one.at_s + ahead_s) for one in notices]
    yield Progress("Pitch over the control", 0.42)
    percent, hertz, volts = _over_the_control(request, rig, onset.value)
    range_hz = range_v = np.zeros(0)
    if request.over_range:
        yield Progress("Level over the range", 0.74)
        range_hz, range_v = _over_range(request, rig, at)
    balance = None
    for found in _balance(request, rig, onset.value, tone.frequency_hz.value):
        if isinstance(found, Progress):
            yield Progress(found.text, 0.82 + 0.18 * found.share)
        else:
            balance = found
    begun = start_up_s(recording_v, rate, tone.frequency_hz.value, from_s=KICK_S)
    pull = np.asarray(1200 * np.log2(hertz / hertz[0])) if hertz.size else np.zeros(0)
    yield OscillationRun(onset, tone, at, begun, percent, hertz, pull, volts, range_hz, range_v, balance, recording_v,
                         rate, tuple(notices))


def _check_whistles(request: OscillationRequest, rig: Rig) -> None:
    """Raises MeasurementError for a filter that whistles nowhere on its control, or everywhere."""
    panels = [replace(request.panel, resonance_percent=percent) for percent in (100.0, 0.0)]
    at_end, at_start = impulses_grow(rig, panels, request.mode, level_v=SMALL_V)
    if not at_end:
        raise MeasurementError("The filter does not whistle, even at the end of its resonance control; turn its "
                               "resonance trim up, or track its cutoff instead.")
    if at_start:
        raise MeasurementError("The filter whistles from the very start of its control; turn its resonance trim down.")


def _over_the_control(
    request: OscillationRequest, rig: Rig, onset_percent: float
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Positions past the onset at which there is a tone, its hertz and volts there, (p,) each."""
    rate = rig.sample_rate_hz
    wanted = onset_percent + (100.0 - onset_percent) * np.linspace(0.06, 1.0, POSITIONS)
    panels = [replace(request.panel, resonance_percent=float(percent)) for percent in wanted]
    places, tones = [], []
    for percent, record in zip(wanted, settled_tones(rig, panels, request.mode, LOUD_V), strict=True):
        try:
            tones.append(measure_tone(record[-round(TONE_S * rate) :], rate))
        except MeasurementError:
            continue  # so near the onset that it has not grown up yet
        places.append(float(percent))
    return (np.array(places), np.array([t.frequency_hz.value for t in tones]),
            np.array([t.amplitude_peak_v for t in tones]))


def settled_tones(rig: Rig, panels: Sequence[PanelSettings], mode: str, level_v: float) -> list[FloatArray]:
    """A recording for each setting from an impulse on, long enough that its end is settled, or LONGEST_S."""
    rate, seconds = rig.sample_rate_hz, 1.0
    found: dict[int, FloatArray] = {}
    while len(found) < len(panels):
        played = impulse(sample_rate_hz=rate, level_v=level_v, burst_s=KICK_S, duration_s=seconds)
        left = [i for i in range(len(panels)) if i not in found]
        half = round(0.5 * TONE_S * rate)
        for i, heard in zip(left, rig.play_each(played, [panels[i] for i in left], [mode])[:, 0], strict=True):
            recording = heard[: played.size]
            late, before = float(np.std(recording[-half:])), float(np.std(recording[-2 * half : -half]))
            if seconds >= LONGEST_S or abs(late - before) < SETTLED_SHARE * late:
                found[i] = np.asarray(recording)
        seconds *= 2
    return [found[i] for i in range(len(panels))]


def _over_range(request: OscillationRequest, rig: Rig, percent: float) -> tuple[FloatArray, FloatArray]:
    """Level of the tone at every octave of its range."""
    tracked = TrackingRequest(request.mode, percent, volts=VOLTS, trims=request.panel.trims)
    for step in run_tracking(tracked, rig):
        if not isinstance(step, Progress):
            return step.tracking.readings.frequency_hz, step.tracking.readings.level_v
    return np.zeros(0), np.zeros(0)


def _balance(
    request: OscillationRequest, rig: Rig, onset_percent: float, tone_hz: float
) -> Iterator[Progress | BalancePoint | None]:
    yield Progress("Whistle beside the source", 0.0)
    rate, source = rig.sample_rate_hz, request.source
    played = source.record(duration_s=BALANCE_S, sample_rate_hz=rate)

    pitch_hz = source.pitch_hz if source.kind in PITCHED else None

    def levels_at(percents: Sequence[float]) -> list[WhistleLevel]:
        panels = [replace(request.panel, resonance_percent=percent) for percent in percents]
        heard = slice(played.size - round(BALANCE_HEARD_S * rate), played.size)
        return [whistle_level(recording[heard], rate, pitch_hz=pitch_hz, near_hz=tone_hz)
                for recording in rig.play_each(played, panels, [request.mode])[:, 0]]

    try:
        yield find_balance(levels_at, onset_percent=onset_percent, target_db=request.balance_db)
    except MeasurementError:
        yield None
