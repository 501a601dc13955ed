"""Which circuit is it: seeded units of six families, played by the renderer with noise, told from two levels."""

from __future__ import annotations

import time
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from jiyuu.character.identify import identify
from jiyuu.character.level_curves import LevelCurve
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import poles
from jiyuu.measurement.response import measure_response
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.simulation.render import render

RATE, UNITS, LEVELS_V = 48_000, 200, (0.1, 2.0)
NOISE, HEADROOM, MISMATCH = 1e-3, 0.05, 0.02
FAMILIES = (("transistor-ladder", "lowpass-24"), ("ota-cascade", "lowpass-24"), ("diode-ladder", "lowpass-24"),
            ("state-variable", "lowpass"), ("sallen-key-lowpass", "lowpass-12"), ("sallen-key-highpass", "highpass-12"))


@dataclass(frozen=True, slots=True)
class Unit:
    """A recorded one: its family and mode, what is true of it, its curves at both levels."""

    name: str
    mode: str
    cutoff_hz: float
    gain: float
    curves: list[LevelCurve]


def unit(seed: int) -> Unit:
    generator = np.random.default_rng([seed, 61])
    name, mode = FAMILIES[seed % len(FAMILIES)]
    entry = circuit(name)
    parameters = {}
    for parameter in entry.parameters:
        if parameter.name.endswith("_headroom_v"):
            parameters[parameter.name] = float(parameter.default * (1 + generator.normal(0, HEADROOM)))
        elif parameter.name.endswith("_mismatch_percent"):
            parameters[parameter.name] = float(100 * generator.normal(0, MISMATCH))
    network, onset = entry.network(entry.values(parameters)), entry.onset_gain or 1.0
    cutoff_hz, gain = float(300 * 2 ** generator.uniform(0, 2.5)), float(onset * generator.uniform(0.2, 0.8))
    curves = []
    for level_v in LEVELS_V:
        stimulus = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=2.5), sample_rate_hz=RATE)
        heard = render(network, stimulus, sample_rate_hz=RATE, cutoff_hz=cutoff_hz, gain=gain, modes=[mode],
                       oversampling=8).output_v[0]
        heard = heard + generator.normal(0, NOISE * np.std(heard), heard.size)
        curves.append(LevelCurve.of(measure_response(stimulus, heard, RATE, quickly=True)))
    stages = [value / 100 for key, value in parameters.items() if key.endswith("percent")]
    true_hz = cutoff_hz * float(np.exp(np.sum(np.log1p(stages)) / entry.poles))
    if entry.poles == 2:
        pair = poles(network, cutoff_hz=1.0, gain=gain) / (2 * np.pi)
        gain = float(2 + pair.sum().real / np.sqrt(abs(np.prod(pair))))
    return Unit(name, mode, true_hz, gain, curves)


def told(of: Unit) -> tuple[str, str | None, bool, float, float, float]:
    """(family, what was told, the mode right, cents off, share of the loop gain off, seconds) of a unit."""
    begun = time.perf_counter()
    found = identify(of.curves)
    seconds = time.perf_counter() - begun
    if found.chosen is None:
        return of.name, None, False, np.nan, np.nan, seconds
    family = found.chosen.family
    same = {(family.entry.id, family.mode), *family.alike}
    return (of.name, family.entry.id, (of.name, of.mode) in same,
            1200 * np.log2(found.chosen.cutoff_hz.value / of.cutoff_hz),
            found.chosen.loop_gain.value / of.gain - 1, seconds)


def main(units: int = UNITS) -> None:
    """Prints what was answered, what of it was right, and how far off the numbers were."""
    found = []
    for begin in range(0, units, 2 * len(FAMILIES)):
        with ProcessPoolExecutor(2) as pool:
            some = list(pool.map(unit, range(begin, min(begin + 2 * len(FAMILIES), units))))
        if not begin:
            told(some[0])  # loads what is compiled
        found += [told(one) for one in some]  # one after the other, so that seconds are those of one alone
    _say("all", found)
    for name, _ in FAMILIES:
        _say(name, [one for one in found if one[0] == name])


def _say(name: str, found: Sequence[tuple[str, str | None, bool, float, float, float]]) -> None:
    answered = [one for one in found if one[1] is not None]
    right = [one for one in answered if one[2]]
    cents, gain, seconds = (np.abs([one[i] for one in rows]) for i, rows in ((3, right), (4, right), (5, found)))
    print(f"{name:20} {len(answered):3} of {len(found):3} answered, {len(right):3} right; cutoff off by at most "
          f"{cents.max(initial=0):.2f} cents, loop gain by {100 * gain.max(initial=0):.2f} %; {np.median(seconds):.1f}"
          f" s, at most {seconds.max(initial=0):.1f} s", flush=True)


if __name__ == "__main__":
    main()
