"""The Modulation step on a rig: the unit struck where it stands, and stepped while it whistles."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Notice
from jiyuu.measurement.ping import MeasuredPings, Ping, measure_pings
from jiyuu.measurement.settling import SettledStep, measure_settling
from jiyuu.measurement.sideband_lines import SidebandLines, sideband_lines
from jiyuu.measurement.struck_scale import StruckScale, struck_scale
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.pings import ping_stimulus, pings_in
from jiyuu.stopping import side_by_side

PINGS, EVERY_S = 3, 0.6
STEPS_V = (0.0, 1.0, 0.0, -2.0, 0.0)
HOLD_S = 0.45
SOFT_V, SETTLES_S, TONE_S = 0.05, 0.4, 1.0  # of the tone under a cutoff moved within hearing
KICK_V, KICK_S = 0.1, 0.01  # that a whistle begins at once


@dataclass(frozen=True, slots=True)
class MovedCutoff:
    """A sine within hearing that moves the cutoff by ±octaves, and the tone that is played meanwhile."""

    octaves: float
    rate_hz: float
    tone_hz: float


@dataclass(frozen=True, slots=True)
class ModulationRequest:
    """Everything a run needs. pings: whether it can be struck, which one that whistles cannot; whistles: whether it can
    be made to."""

    panel: PanelSettings
    mode: str
    pulse_s: float
    level_v: float
    pings: bool
    whistles: bool
    notes_hz: tuple[float, ...] = ()  # that it is struck on too
    notes_v: tuple[float, ...] = ()  # the volts (1 V/octave) that should bring it there
    moved: MovedCutoff | None = None


@dataclass(frozen=True, slots=True, eq=False)
class ModulationRun:
    """Records by name (n,); what was found, None where it could not be done."""

    records: dict[str, FloatArray]
    sample_rate_hz: float
    pings: MeasuredPings | None
    steps: tuple[SettledStep, ...] | None
    notices: tuple[Notice, ...] = ()
    scale: StruckScale | None = None
    on_notes: tuple[Ping, ...] = ()  # one a note of the scale
    lines: SidebandLines | None = None
    not_told: tuple[str, ...] = ()  # why something beside the ring and the steps is missing


def run_modulation(request: ModulationRequest, rig: Rig) -> Iterator[Progress | ModulationRun]:
    """Yields progress, then the run. Raises MeasurementError where nothing is heard."""
    rate = rig.sample_rate_hz
    records: dict[str, FloatArray] = {}
    pings: MeasuredPings | None = None
    steps: tuple[SettledStep, ...] | None = None
    if request.pings:
        yield Progress(f"Striking it {PINGS} times", 0.05)
        played = ping_stimulus(length_s=request.pulse_s, level_v=request.level_v, every_s=EVERY_S, count=PINGS,
                               sample_rate_hz=rate)
        records["stimulus"] = played
        records["pings"] = rig.play(played, request.panel, [request.mode])[0]
        yield Progress("Measuring how it rings", 0.3)
        pings = measure_pings(records["pings"], rate, pings_in(played, rate))
    on_notes: tuple[Ping, ...] = ()
    scale: StruckScale | None = None
    not_told: list[str] = []
    if request.pings and request.notes_hz:
        yield Progress(f"Striking it on {len(request.notes_hz)} notes", 0.35)
        once = ping_stimulus(length_s=request.pulse_s, level_v=request.level_v, every_s=EVERY_S, count=1,
                             sample_rate_hz=rate)
        heard = rig.play_each(once, [request.panel] * len(request.notes_v), [request.mode],
                              held_v=request.notes_v)[:, 0]
        records["notes"] = np.concatenate(list(heard))
        struck = pings_in(once, rate)
        try:
            on_notes = tuple(side_by_side(lambda record: measure_pings(record, rate, struck).pings[0], heard))
            scale = struck_scale(on_notes, request.notes_hz)
        except MeasurementError as error:  # the rest of the step can be measured all the same
            not_told.append(f"On the scale: {error}")
    lines: SidebandLines | None = None
    if request.pings and request.moved is not None:
        yield Progress("Moving its cutoff within hearing", 0.42)
        try:
            records["moved"] = _moved(request, request.moved, rig)
            lines = sideband_lines(records["moved"][round(SETTLES_S * rate) :], rate, tone_hz=request.moved.tone_hz,
                                   rate_hz=request.moved.rate_hz)
        except MeasurementError as error:
            not_told.append(str(error))
    if request.whistles:
        yield Progress(f"Stepping its whistle {len(STEPS_V) - 1} times", 0.45)
        volts = np.repeat(STEPS_V, round(HOLD_S * rate))
        kick = np.zeros(volts.size)
        kick[: round(KICK_S * rate)] = KICK_V
        panel = replace(request.panel, resonance_percent=100.0)
        records["control"] = volts
        records["steps"] = rig.play(kick, panel, [request.mode], cutoff_cv_v=volts)[0]
        yield Progress("Measuring how it settles", 0.7)
        steps = measure_settling(records["steps"], rate)
    yield ModulationRun(records, rate, pings, steps, () if pings is None else pings.notices,
                        scale, on_notes, lines, tuple(not_told))


def _moved(request: ModulationRequest, moved: MovedCutoff, rig: Rig) -> FloatArray:
    """(n,) a soft tone from the beginning on, SETTLES_S of it to settle."""
    rate = rig.sample_rate_hz
    t = np.arange(round((SETTLES_S + TONE_S) * rate)) / rate
    swing = moved.octaves * np.sin(2 * np.pi * moved.rate_hz * t)
    tone = SOFT_V * np.sin(2 * np.pi * moved.tone_hz * t)
    return rig.play(tone, request.panel, [request.mode], cutoff_cv_v=swing)[0][: t.size]
