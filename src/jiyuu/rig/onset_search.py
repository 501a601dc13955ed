"""Where a filter begins to whistle, closing in: does an impulse through it grow, or die away?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from jiyuu.measurement.uncertain import Uncertain
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.stimuli import impulse

FINEST_PERCENT = 0.1
BURST_S, WAIT_S = 0.02, 0.6
ROUND = 7  # positions tried in each round; with fewer, a rig that works side by side would idle
DAWDLE_PERCENT = 0.15  # so close to the onset, growing and dying away take longer than one waits


def search_onset(
    rig: Rig, panel: PanelSettings, mode: str, low: float, high: float, *, level_v: float
) -> Iterator[Progress | Uncertain]:
    """Between a position in % at which an impulse dies away and one at which the filter whistles. Yields progress, then
    the onset in % with what it may be off by."""
    whole = high - low
    while high - low > FINEST_PERCENT:
        share = 1 - np.log(max(high - low, FINEST_PERCENT) / FINEST_PERCENT) / np.log(max(whole / FINEST_PERCENT, 1.01))
        yield Progress(f"Onset between {low:.1f} and {high:.1f} %", float(np.clip(share, 0, 1)))
        edges = np.linspace(low, high, ROUND + 2)
        panels = [replace(panel, resonance_percent=float(percent)) for percent in edges[1:-1]]
        grows = [*impulses_grow(rig, panels, mode, level_v=level_v), True]
        first = grows.index(True)
        low, high = float(edges[first]), float(edges[first + 1])
    yield Uncertain(0.5 * (low + high), 0.5 * (high - low) + DAWDLE_PERCENT)


def impulse_grows(rig: Rig, panel: PanelSettings, mode: str, *, level_v: float) -> bool:
    """Whether an impulse through the filter grows rather than dies away."""
    return impulses_grow(rig, [panel], mode, level_v=level_v)[0]


def impulses_grow(rig: Rig, panels: Sequence[PanelSettings], mode: str, *, level_v: float) -> list[bool]:
    """The same at several settings of the panel."""
    rate = rig.sample_rate_hz
    played = impulse(sample_rate_hz=rate, level_v=level_v, burst_s=BURST_S, duration_s=BURST_S + WAIT_S)
    start, half = round((BURST_S + 0.1) * rate), round((WAIT_S - 0.1) / 2 * rate)
    recordings = rig.play_each(played, panels, [mode])[:, 0]
    early = recordings[:, start : start + half].std(axis=1)
    late = recordings[:, start + half : start + 2 * half].std(axis=1)
    # What whistles at its full level does not grow any more, so as loud as before is enough.
    return [bool(grown) for grown in late > np.maximum(0.97 * early, 0.02 * level_v)]
