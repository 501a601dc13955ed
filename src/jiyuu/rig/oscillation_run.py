"""The Self-oscillation step on a rig: onset, the settled tone, pitch and level over the control and over the range."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import FloatArray
from jiyuu.circuits.trims import Trims
from jiyuu.errors import MeasurementError
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.oscillation_findings import oscillation_findings
from jiyuu.measurement.start_up import start_up_s
from jiyuu.measurement.tone import MeasuredTone, measure_tone
from jiyuu.measurement.tracking_advice import resonance_turn
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.whistle import Cusp, WhistleLevel, find_cusp, whistle_level
from jiyuu.rig.onset_search import knocks_grow, search_onset
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.rig.response_run import Progress
from jiyuu.rig.tracking_request import VOLTS, TrackingRequest
from jiyuu.rig.tracking_run import run_tracking
from jiyuu.signals.source import PITCHED, Source

SMALL_V, LOUD_V, KICK_S = 0.02, 0.3, 0.02  # a loud knock near the onset, where growing takes long
POSITIONS = 8  # from the onset to the end
TONE_S, LONGEST_S = 0.5, 4.0
SETTLED_SHARE = 0.01  # by which the level of the last half may differ from that of the half before
USUAL_ONSET = (70.0, 95.0)  # of the travel: lower and much of it howls, higher and a warm day may silence it
CUSP_S, CUSP_HEARD_S = 0.7, 0.4


@dataclass(frozen=True, slots=True)
class OscillationRequest:
    """Everything a run needs. resonance_percent: where the tone is looked at; where the filter does not whistle there,
    at the end of the control. source: what the whistle is set against."""

    document: Filter
    cutoff_hz: float
    mode: str
    resonance_percent: float
    source: Source = field(default_factory=Source)
    cusp_db: float = -6.0
    trims: Trims = field(default_factory=Trims)
    concert_a_hz: float = 440.0
    over_range: bool = True


@dataclass(frozen=True, slots=True, eq=False)
class OscillationRun:
    """position_percent (p,) past the onset with pull_hz, pull_cents (re the lowest of them) and pull_v there (p,);
    range_hz and range_v (q,): level of the tone over its range, empty where not asked for. waveform_v: some periods of
    the settled tone."""

    settings: Mapping[str, Any]
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
    cusp: Cusp | None
    recording_v: FloatArray
    sample_rate_hz: float
    findings: tuple[Finding, ...]


def run_oscillation(request: OscillationRequest, rig: Rig) -> Iterator[Progress | OscillationRun]:
    """Yields progress, then the run. Stop iterating to cancel. Raises MeasurementError where the filter whistles
    nowhere on its control, or everywhere."""
    panel = PanelSettings(request.cutoff_hz, 100.0, request.trims)
    yield Progress("Does it whistle at all?", 0.02)
    at_end, at_start = knocks_grow(rig, [panel, replace(panel, resonance_percent=0.0)], request.mode, level_v=SMALL_V)
    if not at_end:
        raise MeasurementError("The filter does not whistle, even at the end of its resonance control; turn its "
                               "resonance trim up, or track its cutoff instead.")
    if at_start:
        raise MeasurementError("The filter whistles from the very start of its control; turn its resonance trim down.")
    onset = Uncertain(0.0, 0.0)
    for step in search_onset(rig, panel, request.mode, 0.0, 100.0, level_v=SMALL_V):
        if isinstance(step, Progress):
            yield Progress(step.text, 0.05 + 0.3 * step.share)
        else:
            onset = step
    at = request.resonance_percent if request.resonance_percent > onset.value + onset.uncertainty else 100.0
    yield Progress("Tone", 0.38)
    recording_v = _settled(rig, [replace(panel, resonance_percent=at)], request.mode, SMALL_V)[0]
    rate = rig.sample_rate_hz
    tone = measure_tone(recording_v[-round(TONE_S * rate) :], rate, concert_a_hz=request.concert_a_hz)
    places, tones = [], []
    wanted = onset.value + (100.0 - onset.value) * np.linspace(0.06, 1.0, POSITIONS)
    yield Progress("Pitch over the control", 0.42)
    panels = [replace(panel, resonance_percent=float(percent)) for percent in wanted]
    for percent, record in zip(wanted, _settled(rig, panels, request.mode, LOUD_V), strict=True):
        try:
            tones.append(measure_tone(record[-round(TONE_S * rate) :], rate))
        except MeasurementError:
            continue  # so near the onset that it has not grown up yet
        places.append(float(percent))
    hertz = np.array([t.frequency_hz.value for t in tones])
    range_hz = range_v = np.zeros(0)
    if request.over_range:
        yield Progress("Level over the range", 0.74)
        range_hz, range_v = _over_range(request, rig, at)
    cusp = None
    for found in _cusp(request, rig, onset.value, tone.frequency_hz.value):
        if isinstance(found, Progress):
            yield Progress(found.text, 0.82 + 0.18 * found.share)
        else:
            cusp = found
    document = request.document
    settings = {
        "circuit": document.circuit, "mode": request.mode, "cutoff_hz": request.cutoff_hz,
        "parameters": dict(document.parameters), "control": document.control, "tone_percent": at,
        "trims": request.trims.as_json(), "concert_a_hz": request.concert_a_hz, "source": request.source.kind.value,
        "source_hz": request.source.pitch_hz, "level_v": request.source.level_v,
        "position_percent": places, "pull_hz": hertz.tolist(), "pull_v": [t.amplitude_peak_v for t in tones],
        "range_hz": range_hz.tolist(), "range_v": range_v.tolist(), "harmonics_db": list(tone.harmonics_db),
    }
    begun = start_up_s(recording_v, rate, tone.frequency_hz.value, from_s=KICK_S)
    pull = np.asarray(1200 * np.log2(hertz / hertz[0])) if hertz.size else np.zeros(0)
    findings = oscillation_findings(onset, tone, begun, pull, range_v, cusp, settings)
    low, high = USUAL_ONSET
    if not low <= onset.value <= high:
        turn = resonance_turn(document.gain_at(onset.value), document.gain_at(0.5 * (low + high)), request.trims)
        if turn is not None:
            said = f"{turn.sentence[:-1]}: then it whistles from {0.5 * (low + high):.0f} % on."
            findings.insert(1, Finding("resonance_turn", turn.amount, "", settings={**settings, "said": said}))
    yield OscillationRun(
        settings, onset, tone, at, begun, np.array(places), hertz, pull, np.array([t.amplitude_peak_v for t in tones]),
        range_hz, range_v, cusp, recording_v, rate, tuple(findings),
    )


def _settled(rig: Rig, panels: Sequence[PanelSettings], mode: str, knock_v: float) -> list[FloatArray]:
    """A recording for each setting from a knock on, long enough that its end is settled, or LONGEST_S."""
    rate, seconds = rig.sample_rate_hz, 1.0
    found: dict[int, FloatArray] = {}
    while len(found) < len(panels):
        knock = np.zeros(round(seconds * rate))
        knock[: round(KICK_S * rate)] = knock_v * np.random.default_rng(5).standard_normal(round(KICK_S * rate))
        left = [i for i in range(len(panels)) if i not in found]
        half = round(0.5 * TONE_S * rate)
        for i, played in zip(left, rig.play_each(knock, [panels[i] for i in left], [mode])[:, 0], strict=True):
            recording = played[: knock.size]
            late, before = float(np.std(recording[-half:])), float(np.std(recording[-2 * half : -half]))
            if seconds >= LONGEST_S or abs(late - before) < SETTLED_SHARE * late:
                found[i] = np.asarray(recording)
        seconds *= 2
    return [found[i] for i in range(len(panels))]


def _over_range(request: OscillationRequest, rig: Rig, percent: float) -> tuple[FloatArray, FloatArray]:
    """Level of the tone at every octave of its range."""
    tracked = TrackingRequest(request.document, request.mode, percent, volts=VOLTS, trims=request.trims)
    for step in run_tracking(tracked, rig):
        if not isinstance(step, Progress):
            return step.tracking.readings.frequency_hz, step.tracking.readings.level_v
    return np.zeros(0), np.zeros(0)


def _cusp(
    request: OscillationRequest, rig: Rig, onset_percent: float, tone_hz: float
) -> Iterator[Progress | Cusp | None]:
    yield Progress("Whistle beside the source", 0.0)
    rate, source = rig.sample_rate_hz, request.source
    played = source.record(duration_s=CUSP_S, sample_rate_hz=rate)

    pitch_hz = source.pitch_hz if source.kind in PITCHED else None

    def levels_at(percents: Sequence[float]) -> list[WhistleLevel]:
        panels = [PanelSettings(request.cutoff_hz, percent, request.trims) for percent in percents]
        heard = slice(played.size - round(CUSP_HEARD_S * rate), played.size)
        return [whistle_level(recording[heard], rate, pitch_hz=pitch_hz, near_hz=tone_hz)
                for recording in rig.play_each(played, panels, [request.mode])[:, 0]]

    try:
        yield find_cusp(levels_at, onset_percent=onset_percent, target_db=request.cusp_db)
    except MeasurementError:
        yield None
