"""What a drawing says about being driven: gain and harmonics over a ladder of levels, the levels from which it bends,
which stage bends first, products of two tones.

Harmonics and their sums as in IEC 60268-3: re the first harmonic, up to the twentieth.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.linear import growth_rate, response_of, state_space
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.circuits.operating_point import operating_point
from jiyuu.errors import CircuitError
from jiyuu.measurement.two_tones import Products, products_of
from jiyuu.signals.transforms import rfft
from jiyuu.signals.two_tones import HIGHEST_HZ, TwoTones
from jiyuu.simulation.periodic import BATCH, settled_periods, steps_of
from jiyuu.simulation.render import render

HIGHEST_HARMONIC = 20
FEWEST_STEPS = 4096  # a period: what folds back from a square wave onto its third harmonic is under a thousandth
FINER = 9  # levels at once between two of the ladder
CLOSE = 1.003  # from one to the next, where that ends
LAMP_PERCENT = 3.0
COMPRESSED_DB = 1.0
TWO_TONES_RATE_HZ = 96_000.0
TWO_TONES_S = 1.0
TONES_APART_HZ, TONES_AT = 70.0, 0.9  # two tones, the higher one at that share of the cutoff
BOUNDLESS_V = 1e9  # of headroom: a curve that bends no more than rounding does


@dataclass(frozen=True, slots=True, eq=False)
class DrivenLevel:
    """One level of a ladder: harmonics (20,) peak volts with their phase, the first at [0]; largest |output|."""

    input_peak_v: float
    harmonics_v: ComplexArray
    output_peak_v: float
    settled: bool

    @property
    def fundamental_peak_v(self) -> float:
        return float(np.abs(self.harmonics_v[0]))

    @property
    def gain_db(self) -> float:
        return float(20 * np.log10(max(self.fundamental_peak_v, 1e-20) / self.input_peak_v))

    @property
    def harmonics_db(self) -> FloatArray:
        """(20,) re the first, which is 0."""
        size = np.maximum(np.abs(self.harmonics_v), 1e-20)
        return np.asarray(20 * np.log10(size / size[0]))

    def _percent(self, which: slice) -> float:
        over = float(np.sqrt(np.sum(np.abs(self.harmonics_v[which]) ** 2)))
        return 100 * over / max(self.fundamental_peak_v, 1e-20)

    @property
    def thd_percent(self) -> float:
        return self._percent(slice(1, None))

    @property
    def even_percent(self) -> float:
        return self._percent(slice(1, None, 2))

    @property
    def odd_percent(self) -> float:
        return self._percent(slice(2, None, 2))


@dataclass(frozen=True, slots=True)
class BranchShare:
    """What of the distortion at a level goes when that branch alone is made linear."""

    branch: str
    share_percent: float


@dataclass(frozen=True, slots=True)
class BranchShares:
    """Most of all first; and what is left when each alone is accounted for."""

    shares: tuple[BranchShare, ...]
    remainder_percent: float


@dataclass(frozen=True, slots=True, eq=False)
class DriveLadder:
    """Rising levels; the lowest input peak volts at which each of the limits is reached, None where none of them is
    (lamp_v: of the lamp's THD); small_gain_db: the gain of what is small."""

    frequency_hz: float
    levels: tuple[DrivenLevel, ...]
    small_gain_db: float
    compression_1db_v: float | None
    thd_1_percent_v: float | None
    lamp_v: float | None


def usual_frequency_hz(cutoff_hz: float) -> float:
    """An eighth of the cutoff, at least 40 Hz: what an ear calls the body of the sound."""
    return max(cutoff_hz / 8, 40.0)


def drive_ladder(
    network: Network, mode: str, *, cutoff_hz: float, gain: float, frequency_hz: float, levels_v: FloatArray,
    lamp_percent: float = LAMP_PERCENT, rail_v: float | None = None, fewest: int = FEWEST_STEPS,
) -> DriveLadder:
    """levels_v (l,) rising peak volts; rail_v: where the output clips; fewest: steps a period. Raises CircuitError for
    levels or a frequency out of range, or where the filter oscillates by itself."""
    if not (levels_v.size and np.isfinite(levels_v).all() and levels_v[0] > 0 and levels_v[-1] <= 10_000):
        raise CircuitError("levels lie between more than 0 and 10 000 V peak; give fewer dB.")
    if not 1 <= frequency_hz <= 20_000:
        raise CircuitError(f"a frequency of {frequency_hz:g} Hz is out of range; give 1 Hz to 20 kHz.")
    if growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) >= 0:
        raise CircuitError("the filter oscillates by itself here, so what it does to a tone is not defined; lower the "
                           "resonance.")
    rest = operating_point(network, gain=gain)
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain, slope=rest.slope)
    row = network.output_index(mode)
    small = response_of(replace(system, C=system.C[[row]], D=system.D[[row]]), np.array([frequency_hz]), (mode,))
    small_db = float(20 * np.log10(max(abs(complex(small.gain[0, 0])), 1e-20)))

    def at(levels: FloatArray) -> list[DrivenLevel]:
        return _driven(network, mode, levels, cutoff_hz=cutoff_hz, gain=gain, frequency_hz=frequency_hz,
                       rest=rest.state_v, rail_v=rail_v, fewest=fewest)

    ladder = at(levels_v)
    return DriveLadder(
        frequency_hz, tuple(ladder), small_db,
        _first(ladder, at, lambda level: level.gain_db <= small_db - COMPRESSED_DB),
        _first(ladder, at, lambda level: level.thd_percent >= 1.0),
        _first(ladder, at, lambda level: level.thd_percent >= lamp_percent),
    )


def _driven(
    network: Network, mode: str, levels_v: FloatArray, *, cutoff_hz: float, gain: float, frequency_hz: float,
    rest: FloatArray, rail_v: float | None = None, fewest: int = FEWEST_STEPS,
) -> list[DrivenLevel]:
    hz = np.full(1, frequency_hz)
    steps = int(steps_of(network, hz, cutoff_hz=cutoff_hz, gain=gain, fewest=fewest)[0])
    found = []
    for start in range(0, levels_v.size, BATCH):
        part = levels_v[start : start + BATCH]
        orbits = settled_periods(network, np.full(part.size, frequency_hz), steps, cutoff_hz=cutoff_hz, gain=gain,
                                 level_v=part, modes=[mode], rest=rest)
        output_v = orbits.outputs_v[0] if rail_v is None else np.clip(orbits.outputs_v[0], -rail_v, rail_v)
        lines = 2j * rfft(output_v, axis=0)[1 : HIGHEST_HARMONIC + 1] / steps
        found += [DrivenLevel(float(level), lines[:, i], float(np.abs(output_v[:, i]).max()), bool(orbits.settled[i]))
                  for i, level in enumerate(part)]
    return found


def _first(
    ladder: Sequence[DrivenLevel], at: Callable[[FloatArray], list[DrivenLevel]], reached: Callable[[DrivenLevel], bool]
) -> float | None:
    """Input peak volts of the lowest level that is there, sought between the two of the ladder around it."""
    place = next((i for i, level in enumerate(ladder) if reached(level)), None)
    if place is None:
        return None
    if place == 0:
        return ladder[0].input_peak_v
    low, high = ladder[place - 1].input_peak_v, ladder[place].input_peak_v
    while high / low > CLOSE:
        between = at(np.geomspace(low, high, FINER + 2)[1:-1])
        edges = [low, *(level.input_peak_v for level in between), high]
        here = next((i for i, level in enumerate(between) if reached(level)), len(between))
        low, high = edges[here], edges[here + 1]
    return float(np.sqrt(low * high))


def branch_shares(
    network: Network, mode: str, *, cutoff_hz: float, gain: float, frequency_hz: float, level_v: float
) -> BranchShares:
    """Of every branch that bends. Shares are of the energy of all harmonics but the first, and signed: a branch may
    undo what another one does."""
    rest = operating_point(network, gain=gain).state_v

    def harmonics(changed: Network) -> ComplexArray:
        (level,) = _driven(changed, mode, np.array([level_v]), cutoff_hz=cutoff_hz, gain=gain,
                           frequency_hz=frequency_hz, rest=rest)
        return np.asarray(level.harmonics_v[1:])

    whole = harmonics(network)
    energy = float(np.sum(np.abs(whole) ** 2))
    if not energy > 0:
        return BranchShares((), 100.0)
    shares = []
    for j, branch in enumerate(network.branches):
        if branch.kind is BranchKind.LINEAR:
            continue
        straight = [*network.branches]
        # The same curve with headroom for everything: what is compiled for the network serves it too.
        straight[j] = replace(branch, headroom_v=BOUNDLESS_V)
        gone = whole - harmonics(replace(network, branches=tuple(straight)))
        shares.append(BranchShare(branch.name, 100 * float(np.real(np.vdot(whole, gone))) / energy))
    shares.sort(key=lambda share: -share.share_percent)
    return BranchShares(tuple(shares), 100 - sum(share.share_percent for share in shares))


def usual_two_tones(cutoff_hz: float, level_v: float) -> TwoTones:
    """Near the cutoff, where a filter is driven most. Raises SignalError for so low a cutoff that they cannot be told
    apart under it."""
    high = min(TONES_AT * cutoff_hz, HIGHEST_HZ)
    return TwoTones(high - TONES_APART_HZ, high, level_v)


def two_tones_products(network: Network, mode: str, tones: TwoTones, *, cutoff_hz: float, gain: float) -> Products:
    """Difference-frequency distortion of second and third order; what is stated beside it is the arithmetic's. Raises
    CircuitError where the filter oscillates by itself."""
    # Until what began with the tones has died away: twelve of its time constants leave a hundred-thousandth.
    slowest = -growth_rate(network, cutoff_hz=cutoff_hz, gain=gain)
    if slowest <= 0:
        raise CircuitError("the filter oscillates by itself here; lower the resonance.")
    before_s = float(np.clip(12 / slowest, 0.1, 10.0))
    t = np.arange(round((before_s + TWO_TONES_S) * TWO_TONES_RATE_HZ)) / TWO_TONES_RATE_HZ
    out = render(network, tones.wave_v(t), sample_rate_hz=TWO_TONES_RATE_HZ, cutoff_hz=cutoff_hz, gain=gain,
                 modes=[mode], start_v=operating_point(network, gain=gain).state_v).output_v[0]
    return products_of(out[round(before_s * TWO_TONES_RATE_HZ) : -400], TWO_TONES_RATE_HZ, tones)
