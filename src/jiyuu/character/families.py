"""What a recording may have been made by: every mode of every circuit, each network once, as a vector of numbers that
can be fitted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache, cached_property
from typing import Any

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.circuit import Circuit
from jiyuu.circuits.linear import complex_gain, growth_rate, level_db, onset, poles, quotient_gain
from jiyuu.circuits.network import Affine, Network

MISMATCH = 0.02  # standard deviation of a stage, relative
HEADROOM_OCTAVES = 0.7  # standard deviation about what is usual
LEVEL_DB = 0.3  # of an interface that is set up
SPACING_OCTAVES = 1.0
NEVER_WHISTLES = 50.0  # loop gain that is tried at most where there is no onset
UNDER_ONSET = 0.9995
# Modes that are whatever one makes of them; and what hangs on a light-dependent element, which for a sweep stands
# still: then its loop is the Sallen–Key lowpass whose stages do not bend.
LEFT_OUT = frozenset({"free", "filter", "level", "both"})
LATELY = 64  # networks that are kept
NUDGED = 0.125  # of a parameter, to see what it does
MATRICES = ("V", "U", "Z", "C", "D", "E")
PROBES = 5
PROBED_HZ = np.geomspace(0.05, 20.0, 25)
PROBED_SHARES = (0.3, 0.8)  # of the onset


@dataclass(frozen=True, slots=True)
class Free:
    """A number to be fitted: where it begins, what is known of it beforehand, and its limits. bends: only a loud
    recording tells it."""

    name: str
    start: float
    deviation: float
    low: float
    high: float
    bends: bool = False


@dataclass(frozen=True, slots=True)
class Built:
    """A family at one vector of numbers."""

    network: Network
    mode: str
    cutoff_hz: float
    gain: float
    level_db: float
    parameters: dict[str, float]

    def linear_db(self, hertz: FloatArray) -> FloatArray:
        """(n,) level of what is too small to bend."""
        return np.asarray(level_db(self.linear(hertz)) + self.level_db)

    def linear(self, hertz: FloatArray) -> ComplexArray:
        """(n,) gain of what is too small to bend, but for its level."""
        return quotient_gain(self.network, hertz, cutoff_hz=self.cutoff_hz, gain=self.gain, mode=self.mode)


@dataclass(frozen=True, slots=True, eq=False)
class _Parts:
    """How a network follows from its parameters: what each adds, a unit of it, to every matrix and to the rates of the
    capacitors; which branches it is the headroom of. Only for what does so linearly."""

    base: Network
    default: dict[str, float]
    matrices: dict[str, dict[str, FloatArray]]
    rates: dict[str, FloatArray]
    branches: dict[str, tuple[int, ...]]

    @classmethod
    def of(cls, entry: Circuit, names: Sequence[str]) -> _Parts | None:
        """None where a parameter does something else."""
        default = entry.values({})
        base = entry.network(default)
        matrices: dict[str, dict[str, FloatArray]] = {}
        rates, branches = {}, {}
        for name in names:
            nudged, twice = (entry.network({**default, name: default[name] + by}) for by in (NUDGED, 2 * NUDGED))
            if name.endswith("_headroom_v"):
                pairs = zip(base.branches, nudged.branches, strict=True)
                branches[name] = tuple(j for j, (one, other) in enumerate(pairs) if one != other)
                continue
            found = {}
            for matrix in MATRICES:
                one, other, third = (getattr(network, matrix).parts for network in (base, nudged, twice))
                if np.abs(third - 2 * other + one).max(initial=0.0) > 1e-9:
                    return None
                if np.abs(other - one).max(initial=0.0) > 0:
                    found[matrix] = (other - one) / NUDGED
            matrices[name] = found
            if np.abs(twice.rate_ratio - 2 * nudged.rate_ratio + base.rate_ratio).max() > 1e-9:
                return None
            rates[name] = (nudged.rate_ratio - base.rate_ratio) / NUDGED
        return cls(base, default, matrices, rates, branches)

    def network(self, parameters: dict[str, float]) -> Network:
        rate_ratio, changed = self.base.rate_ratio, [*self.base.branches]
        moved: dict[str, FloatArray] = {}
        for name, value in parameters.items():
            for j in self.branches.get(name, ()):
                changed[j] = replace(changed[j], headroom_v=value)
            apart = value - self.default[name]
            if not apart or name in self.branches:
                continue
            rate_ratio = rate_ratio + apart * self.rates[name]
            for matrix, slope in self.matrices[name].items():
                moved[matrix] = moved.get(matrix, getattr(self.base, matrix).parts) + apart * slope
        matrices: dict[str, Any] = {matrix: Affine(parts) for matrix, parts in moved.items()}
        return replace(self.base, rate_ratio=rate_ratio, branches=tuple(changed), **matrices)


@dataclass(frozen=True)
class Family:
    """One network seen at one output. alike: other circuits and modes that are the same."""

    entry: Circuit
    mode: str
    alike: tuple[tuple[str, str], ...] = ()

    @cached_property
    def onset_gain(self) -> float:
        found = self.entry.onset_gain
        return NEVER_WHISTLES if found is None else found

    @cached_property
    def _parts(self) -> _Parts | None:
        return _Parts.of(self.entry, [free.name for free in self.free if free.name not in ("cutoff", "gain", "level")])

    @cached_property
    def free(self) -> tuple[Free, ...]:
        """Cutoff (octaves re 1 kHz), loop gain, level (dB), stages' mismatch; then what only level tells."""
        known = {parameter.name: parameter for parameter in self.entry.parameters}
        found = [Free("cutoff", 0.0, np.inf, -7.0, 6.0), Free("gain", 0.3 * self.onset_gain, np.inf, 0.0,
                                                              1.05 * self.onset_gain),
                 Free("level", 0.0, LEVEL_DB, -80.0, 80.0)]
        stages = [name for name in known if name.endswith("_mismatch_percent") or name.startswith("capacitor_ratio_")]
        found += [Free(name, 0.0, MISMATCH, -0.3, 0.3) for name in stages]
        if "spacing_octaves" in known:
            one = known["spacing_octaves"]
            found.append(Free(one.name, one.default, SPACING_OCTAVES, one.minimum, one.maximum))
        if self.mode == "morph":
            found.append(Free("morph", 0.5, np.inf, 0.0, 1.0))
        if "compensation" in known:
            found.append(Free("compensation", 0.0, np.inf, 0.0, 1.0))
        found += [Free(name, float(np.log2(one.default)), HEADROOM_OCTAVES, float(np.log2(one.minimum)),
                       float(np.log2(one.maximum)), bends=True)
                  for name, one in known.items() if name.endswith("_headroom_v")]
        return tuple(found)

    @cached_property
    def _lately(self) -> dict[bytes, Built]:
        return {}

    def built(self, values: Sequence[float] | FloatArray) -> Built:
        """The network at values, one for each of free; those of late are not drawn up again."""
        key = np.asarray(values, dtype=float).tobytes()
        found = self._lately.get(key)
        if found is None:
            if len(self._lately) >= LATELY:
                self._lately.clear()
            found = self._lately[key] = self._built(values)
        return found

    def _built(self, values: Sequence[float] | FloatArray) -> Built:
        parameters: dict[str, float] = {}
        known = self.entry.values({})
        for free, value in zip(self.free, values, strict=True):
            if free.name in ("cutoff", "gain", "level"):
                continue
            value = min(max(float(value), free.low), free.high)
            if free.name.endswith("_mismatch_percent"):
                parameters[free.name] = 100 * value
            elif free.name.startswith("capacitor_ratio_"):
                parameters[free.name] = known[free.name] * (1 + value)
            else:
                parameters[free.name] = 2.0**value if free.bends else value
        network = self.entry.network(parameters) if self._parts is None else self._parts.network(parameters)
        return Built(network, self.mode, float(1000 * 2.0 ** values[0]), float(values[1]),
                     float(values[2]), parameters)

    def mean_cutoff(self, values: FloatArray) -> float:
        """log₂ (re 1 kHz) of the geometric mean of the stages' pole frequencies re their nominal ratios."""
        stages = self._stages(values)
        return float(values[0] + (np.mean(np.log2(1 + stages)) if stages.size else 0.0))

    def loop_gain(self, values: FloatArray) -> float:
        """As it is set; of two poles that of the circuit with equal stages and the same poles."""
        if self.entry.poles != 2:
            return float(values[1])
        built = self.built(values)
        found = poles(built.network, cutoff_hz=1.0, gain=built.gain) / (2 * np.pi)
        pair = found[np.argsort(np.abs(np.log(np.abs(found) + 1e-12)))[:2]]
        return float(2 + np.real(pair.sum()) / np.sqrt(np.abs(np.prod(pair))))

    def _stages(self, values: FloatArray) -> FloatArray:
        return np.array([value for free, value in zip(self.free, values, strict=True)
                         if free.name.endswith("_mismatch_percent") or free.name.startswith("capacitor_ratio_")])


@cache
def families() -> tuple[Family, ...]:
    """Every network and output there is, once, in the order of the catalogue."""
    found: list[Family] = []
    for entry in circuits().values():
        for mode in entry.modes:
            if mode in LEFT_OUT or _as_drawn(entry.id).is_modulated:
                continue
            same = None if mode == "morph" else next(
                (i for i, other in enumerate(found) if _one_network(other, entry, mode)), None)
            if same is None:
                found.append(Family(entry, mode))
            else:
                other = found[same]
                found[same] = Family(other.entry, other.mode, (*other.alike, (entry.id, mode)))
    return tuple(found)


@cache
def shapes() -> tuple[tuple[Family, ...], ...]:
    """Families that are one filter as long as nothing bends, together."""
    found: list[list[Family]] = []
    known: list[FloatArray] = []
    for family in families():
        curve = _probed(family)
        same = next((i for i, other in enumerate(known) if np.abs(other - curve).max() < 1e-6), None)
        if same is None or family.mode == "morph":
            found.append([family])
            known.append(curve)
        else:
            found[same].append(family)
    return tuple(tuple(one) for one in found)


@cache
def _as_drawn(circuit_id: str) -> Network:
    """At its own parameters."""
    return circuit(circuit_id).network()


def _probed(family: Family) -> FloatArray:
    network = _as_drawn(family.entry.id)
    return np.concatenate([
        20 * np.log10(np.maximum(np.abs(complex_gain(network, PROBED_HZ, cutoff_hz=1.0, gain=share * family.onset_gain,
                                                     modes=[family.mode])[0]), 1e-6)) for share in PROBED_SHARES])


def _one_network(family: Family, entry: Circuit, mode: str) -> bool:
    """Whether the two do the same from any state, so that no level tells them apart."""
    one, other = _as_drawn(family.entry.id), _as_drawn(entry.id)
    if one.rate_ratio.size != other.rate_ratio.size or family.onset_gain != Family(entry, mode).onset_gain:
        return False
    draw = np.random.default_rng(3)
    for _ in range(PROBES):
        state, input_v, gain = draw.normal(0, 1, one.rate_ratio.size), draw.normal(0, 2), draw.uniform(0, 3)
        first, second = (_moves(network, output, state, input_v, gain)
                         for network, output in ((one, family.mode), (other, mode)))
        if np.abs(first - second).max() > 1e-9:
            return False
    return True


def _moves(network: Network, mode: str, state: FloatArray, input_v: float, gain: float) -> FloatArray:
    """(n + 1,) how fast every capacitor of a network charges, at a unit cutoff, and what is seen at an output."""
    v = network.V.at(gain) @ state + network.U.at(gain) * input_v + [branch.offset_v for branch in network.branches]
    bent, within = np.zeros(v.size), network.Z.at(gain)
    for j, branch in enumerate(network.branches):
        v[j] += within[j] @ bent
        bent[j] = branch.at(v[j : j + 1])[0][0]
    row = network.output_index(mode)
    seen = network.C.at(gain)[row] @ state + network.D.at(gain)[row] * input_v + network.E.at(gain)[row] @ bent
    rates = np.where(network.fixed_rate > 0, network.fixed_rate, network.rate_ratio)
    return np.append(rates * (network.W @ bent), seen)


def stable_gain(family: Family, values: FloatArray) -> FloatArray:
    """values with the loop gain brought under the onset, where it is past it."""
    built = family.built(values)
    if growth_rate(built.network, cutoff_hz=built.cutoff_hz, gain=built.gain / UNDER_ONSET) < 0:
        return values
    begins = onset(built.network, cutoff_hz=built.cutoff_hz)
    if begins is None or built.gain < UNDER_ONSET * begins.gain:
        return values
    found = values.copy()
    found[1] = UNDER_ONSET * begins.gain
    return found
