"""The same unit measured again and again: how often two characters of it agree within what they state."""

from __future__ import annotations

from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.comparison import STEP, ComparisonSetting
from jiyuu.bench.walk import measured
from jiyuu.character.scales import ALL
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.progress import Progress
from jiyuu.rig.simulated import SimulatedRig

UNITS, TIMES = 50, 7  # 300 pairs, each a measurement and the next one
FAMILIES = ("transistor-ladder", "ota-cascade", "diode-ladder", "state-variable", "sallen-key-lowpass", "pole-mixer")


def pairs_of(seed: int) -> dict[str, list[float]]:
    """By scale, how far each measurement lies from the one before, re what both state together."""
    generator = np.random.default_rng([seed, 87])
    entry = circuit(FAMILIES[seed % len(FAMILIES)])
    document = neutral_filter(entry.id)
    standing = Standing.of(document, {}).moved(
        cutoff_hz=float(400 * 2 ** generator.uniform(0, 2)), resonance_percent=float(generator.uniform(10, 60)))
    rig, setting = SimulatedRig(standing.filter, seed=seed), ComparisonSetting()
    found: dict[str, list[float]] = defaultdict(list)
    before: dict[str, tuple[float, float]] = {}
    for _ in range(TIMES):
        *_, run = (step for step in measured(STEP, standing, setting, rig) if not isinstance(step, Progress))
        now = {one.quantity: (one.value, one.uncertainty or 0.0) for one in run.findings}
        for name in before.keys() & now.keys():
            (first, doubt), (second, other) = before[name], now[name]
            if doubt or other:
                found[name].append(abs(first - second) / float(np.hypot(doubt, other)))
        before = now
    return dict(found)


def main() -> None:
    """Share of pairs within, a scale."""
    with ProcessPoolExecutor(2) as pool:
        units = list(pool.map(pairs_of, range(UNITS)))
    every: list[float] = []
    for scale in ALL:
        apart = [value for unit in units for value in unit.get(scale.name, [])]
        if apart:
            every += apart
            print(f"{scale.title:24} {len(apart):4} pairs, {100 * np.mean(np.array(apart) <= 1):.1f} % within")
    print(f"{'all together':24} {len(every):4} pairs, {100 * np.mean(np.array(every) <= 1):.1f} % within")
