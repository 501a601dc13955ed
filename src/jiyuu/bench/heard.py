"""What ears are given of the filter in hand: its source as set up, played through it, or its own whistle."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.standing import Standing
from jiyuu.errors import SignalError

if TYPE_CHECKING:
    from jiyuu.patch.document import AnyStage

HEARD_RATE_HZ = 48_000
MOVING_S, LONGEST_ROUND_S = 4.0, 16.0
SETTLING_S = 0.5  # played and thrown away: what is heard has settled
FULL_SCALE_V = 10.0
PEAK = 0.5  # of full scale, that the loudest of some beside each other reaches
IMPULSE_V, IMPULSE_S = 0.05, 0.01
WARNING = "Start low: self-oscillation can be as loud as the source and sits where ears are sharpest."


class Heard(StrEnum):
    """What is listened to."""

    FILTER = "filter"
    SOURCE = "source"
    WHISTLE = "whistle"
    MOVING = "as it moves"


def heard_record(standing: Standing, what: Heard, *, duration_s: float) -> FloatArray:
    """(n,) re FULL_SCALE_V at HEARD_RATE_HZ, settled, not yet under any ceiling. Raises SignalError for the whistle of
    a filter that has none."""
    from jiyuu.bench.patched import beside_of
    from jiyuu.signals.source import mixed_record
    from jiyuu.signals.stimuli import impulse
    from jiyuu.simulation.render import oversampling_for, render

    if what is Heard.MOVING:
        return moving_record(standing, seconds=duration_s)
    if what is Heard.WHISTLE and not standing.self_oscillates:
        raise SignalError("At this resonance the filter does not whistle; turn it past its onset first.")
    whole_s, settling = duration_s + SETTLING_S, round(SETTLING_S * HEARD_RATE_HZ)
    if what is Heard.WHISTLE:
        played = impulse(sample_rate_hz=HEARD_RATE_HZ, level_v=IMPULSE_V, burst_s=IMPULSE_S, duration_s=whole_s)
    else:
        played = mixed_record(standing.setup.sources(), duration_s=whole_s) * standing.drive
    ahead, behind = beside_of(standing)
    if what is Heard.SOURCE:
        return np.asarray(played[settling:] / FULL_SCALE_V)
    if what is Heard.FILTER:
        played = _through(ahead, played)
    cutoff_hz = standing.standing_hz
    output_v = render(
        standing.network, played, sample_rate_hz=HEARD_RATE_HZ, cutoff_hz=cutoff_hz, gain=standing.gain,
        modes=[standing.mode], oversampling=oversampling_for(cutoff_hz),
    ).output_v[0]
    rail_v = standing.document.tolerances.rail_v
    output_v = _through(behind, np.clip(output_v, -rail_v, rail_v))
    return np.asarray(standing.setup.trim * output_v[settling:] / FULL_SCALE_V)


def _through(path: tuple[AnyStage, ...], sound_v: FloatArray) -> FloatArray:
    """Through what stands beside the network that the filter is part of; both sides together."""
    from jiyuu.patch.document import Patch
    from jiyuu.patch.playing import play_patch

    if not path:
        return sound_v
    patch = Patch.model_construct(name="beside", path=path, controls={}, routes=(), sources=(), figure=None)
    return np.asarray(play_patch(patch, sound_v[np.newaxis], HEARD_RATE_HZ).mean(axis=0))


def moving_record(standing: Standing, *, seconds: float) -> FloatArray:
    """(n,) re FULL_SCALE_V at HEARD_RATE_HZ: the filter in hand with everything that moves it, both sides together.
    Raises CircuitError or SignalError where it cannot be played."""
    from jiyuu.bench.patched import patch_of
    from jiyuu.patch.playing import play_patch, sources_record

    patch = patch_of(standing, standing.document.name)
    sound_v = play_patch(patch, sources_record(patch, seconds, HEARD_RATE_HZ)[np.newaxis], HEARD_RATE_HZ,
                         own_sources=True, checked=False).mean(axis=0)
    rail_v = standing.document.tolerances.rail_v * max(standing.setup.trim, 1e-6)
    return np.asarray(np.clip(sound_v, -rail_v, rail_v) / FULL_SCALE_V)


def equally_loud(sounds: Sequence[FloatArray]) -> list[FloatArray]:
    """At one loudness (ITU-R BS.1770), the highest peak of all at PEAK. Raises SignalError for a silent one."""
    from jiyuu.character.sound import loudness_db

    return under_peak([sound * 10 ** (-loudness_db(sound, HEARD_RATE_HZ) / 20) for sound in sounds])


def under_peak(sounds: Sequence[FloatArray]) -> list[FloatArray]:
    """By one factor for all of them, the highest peak at PEAK."""
    loudest = max(float(np.abs(sound).max()) for sound in sounds)
    return [sound * (PEAK / loudest) for sound in sounds]


def round_s(standing: Standing) -> float:
    """How long it moves until it comes round again: the figure, else some seconds."""
    figure = standing.setup.figure
    if figure is None:
        return MOVING_S
    count = len(figure.steps)
    steps = max(2 * count - 2, 1) if figure.direction == "pendulum" else count
    return float(min(max(steps * figure.step_s, 0.5), LONGEST_ROUND_S))
