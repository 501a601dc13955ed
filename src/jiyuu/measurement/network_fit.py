"""A network of lumped parts, and a delay, laid through every bin of a measured spectrum.

A grid of points, however fine, flattens a resonance that is sharper than its points stand apart; and the gate that cuts
an impulse response out ends a ring that lasts longer than it does. Here the gate and the means are laid on the network
as well: what is compared has suffered alike, and the network itself has not suffered at all. All of its values are
found together by damped least squares (Marquardt 1963, J. SIAM).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement import factors_kernel, network_kernel, network_rings_kernel
from jiyuu.measurement.bin_groups import Cut, Groups, gate_of
from jiyuu.measurement.factors import factors_of, roots_from, roots_of
from jiyuu.measurement.tones_ringing import Rings
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.stopping import checkpoint

STEPS, STEPS_AT_ONCE = 40, 8  # the latter between two looks at whether it is still wanted
STILL = 1e-3  # of χ²: smaller gains no longer matter
FARTHEST_OFF = 1e100  # standard deviations, from which no step leads back
SHARES = (1.0, 0.3, 0.1)  # of a step, as they are tried
LEAST_TOLD = 0.1  # re the best: of a direction in which a network may move, that noise on a grid of points tells
LAST_STEPS, LAST_STILL = 25, 0.02  # of χ² that is left: in a flat valley less than that is still far from its bottom


@dataclass(frozen=True, slots=True)
class Order:
    """Of a network: poles, zeros, and how many zeros more stand at 0."""

    poles: int
    zeros: int
    at_rest: int
    clocked: bool = False  # whether a clock's offset is among its values, before gain and delay

    @property
    def shape(self) -> tuple[int, int, int, int]:
        """As network_kernel has it."""
        return self.poles, self.zeros, self.at_rest, int(self.clocked)

    @property
    def values(self) -> int:
        return self.poles + self.zeros + 2 + self.clocked


@dataclass(frozen=True, slots=True, eq=False)
class NetworkFit:
    """exp(−s·delay)·gain·s^at_rest·Π zeros/Π poles, s in units of `unit` rad/s. values (v,): logarithms of what the
    factors of the poles are made of, those of the zeros, gain, delay; spread (v, v): a root of the covariance of
    `coefficients`, empty until it is asked for by `with_spread`.

    left: RMS of what it leaves over, in standard deviations of the noise."""

    order: Order
    values: FloatArray
    spread: FloatArray
    unit: float
    left: float

    @property
    def poles(self) -> ComplexArray:
        """(n,) rad/s."""
        return self.unit * roots_of(np.exp(self.values[: self.order.poles]))

    @property
    def zeros(self) -> ComplexArray:
        """(m,) rad/s, but for those at 0."""
        return self.unit * roots_of(self.values[self.order.poles : self.order.poles + self.order.zeros])

    @property
    def delay_s(self) -> float:
        return float(self.values[-1]) / self.unit

    def rings(self, waits_s: float) -> tuple[ComplexArray, ComplexArray]:
        """Poles and residues (n,) rad/s of what it rings with, a residue of 0 where nothing is left of it by then."""
        return _slow(self.order, self.values, waits_s, self.unit)

    @property
    def clock_ppm(self) -> Uncertain | None:
        """How much too fast the recorder was by what came later; None where that was not asked."""
        if not self.order.clocked:
            return None
        return Uncertain(1e6 * float(self.values[-3]), COVERAGE * 1e6 * float(np.linalg.norm(self.spread[-3])))

    @property
    def delay_deviation_s(self) -> float:
        """Standard uncertainty of the delay."""
        return float(np.linalg.norm(self.spread[-1])) / self.unit

    def at(self, frequency_hz: FloatArray) -> ComplexArray:
        """(n,) gain at any frequency, also beyond the band it was found in; the delay in it."""
        return product(self.values, self.order, np.asarray(2 * np.pi * frequency_hz / self.unit))

    def level_db(self, frequency_hz: FloatArray) -> FloatArray:
        """(n,) level at any frequency."""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.at(frequency_hz)), 1e-20)))

    def level_deviation_db(self, frequency_hz: FloatArray) -> FloatArray:
        """(n,) standard uncertainty of that level."""
        relative = self.slopes(frequency_hz, np.zeros(frequency_hz.size)) / self.at(frequency_hz)  # no clock moves it
        return np.asarray(20 / np.log(10) * np.linalg.norm(relative.real, axis=0))

    def as_cut(self, bins_hz: FloatArray, cut: Cut | None) -> ComplexArray:
        """(n,) what the gate makes of it."""
        omega = np.asarray(2 * np.pi * bins_hz / self.unit)
        return network_kernel.seen(self.values, self.order.shape, omega, gate_of(cut, self.unit), np.zeros((8, 0)))

    @property
    def coefficients(self) -> FloatArray:
        """(v,) of the polynomials of the poles and of the zeros, lowest first and without their leading 1, then gain
        and delay: poles that coincide, which hardly can be told apart, are known well by these."""
        return _coefficients(self.values, self.order)

    def drawn(
        self, count: int, generator: np.random.Generator, noise: GridNoise | None = None
    ) -> list[DrawnNetwork]:
        """Such networks as other noise might have given as well; noise: such noise, and what it was seen in: then every
        network is the one that its row gives."""
        told = None if noise is None else noise.moving(self)
        return self.moved(evened(generator.standard_normal((count, self.spread.shape[1])) if told is None else told))

    def moved(self, ways: FloatArray) -> list[DrawnNetwork]:
        """The networks that lie there; ways (count, v): by how many standard deviations each goes along the columns of
        spread."""
        moved = ways @ self.spread.T
        # Of zeros far beyond the band only the product with the gain is known, and that is what the noise moves evenly.
        above = slice(self.order.poles, self.order.poles + self.order.zeros)
        coefficients, gain = self.coefficients, self.values[-2]
        found = coefficients + moved
        found[:, above] = (gain * found[:, above] + moved[:, -2:-1] * coefficients[above]) / found[:, -2:-1]
        return [DrawnNetwork(one, self.order, self.unit) for one in found]

    def slopes(self, frequency_hz: FloatArray, sounds_s: FloatArray | None = None) -> ComplexArray:
        """(v, n) how the gain there moves with each of those ways; sounds_s (n,): as GridNoise has it."""
        late = np.zeros(0) if sounds_s is None else self.unit * sounds_s
        s = np.asarray(2j * np.pi * frequency_hz / self.unit)
        return np.asarray(self.spread.T @ _columns(self.order, self.values, s, late))


@dataclass(frozen=True, slots=True, eq=False)
class GridNoise:
    """Noise as other recordings might have had it: rows (d, n) at frequency_hz (n,); variance (n,) |z|² that a point
    would have if what it tells were its own; sounds_s (n,): when each sounded, where the clock was found by it."""

    rows: ComplexArray
    frequency_hz: FloatArray
    variance: FloatArray
    sounds_s: FloatArray | None = None

    def moving(self, fit: NetworkFit) -> FloatArray | None:
        """(d, v) by how many standard deviations each row moves the network along its spread, None where the points do
        not tell it."""
        if fit.order.clocked and self.sounds_s is None:
            return None
        per_way = fit.slopes(self.frequency_hz, self.sounds_s) / np.sqrt(self.variance / 2)
        strengths = np.linalg.eigvalsh((per_way @ np.conj(per_way).T).real)
        if strengths[0] < LEAST_TOLD * strengths[-1]:
            return None
        return np.asarray((self.rows / np.sqrt(self.variance / 2) @ np.conj(per_way).T).real)  # as least squares do it


def evened(draws: FloatArray) -> FloatArray:
    """(d, v) normal draws turned and stretched so that they scatter by exactly 1 in every direction: what follows from
    them nearly linearly has its own uncertainty, not that of so few draws. As they are where there are too few."""
    centred = draws - draws.mean(axis=0)
    if draws.shape[0] < 4 * draws.shape[1]:
        return draws
    root = np.linalg.cholesky(centred.T @ centred / draws.shape[0])
    return np.asarray(np.linalg.solve(root, centred.T).T)


@dataclass(frozen=True, slots=True, eq=False)
class DrawnNetwork:
    """By its coefficients, as NetworkFit has them."""

    coefficients: FloatArray
    order: Order
    unit: float

    @property
    def poles(self) -> ComplexArray:
        """(n,) rad/s."""
        return np.asarray(self.unit * roots_from(self.coefficients[: self.order.poles]))

    def at(self, frequency_hz: FloatArray) -> ComplexArray:
        """(n,) gain, the delay in it."""
        omega = np.asarray(2 * np.pi * frequency_hz / self.unit, dtype=float)
        return network_kernel.by_coefficients(self.coefficients, self.order.shape, omega)

    def level_db(self, frequency_hz: FloatArray) -> FloatArray:
        """(n,)"""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.at(frequency_hz)), 1e-20)))


def settled(
    groups: Groups, order: Order, values: FloatArray, *, ease: float = 0.0, steps: int = STEPS
) -> NetworkFit | None:
    """All values together, from values that are nearly right. ease: share of the loudest that counts as noise too.
    For groups in which no rings are heard."""
    if ease:
        size = np.abs(groups.gain)
        groups = replace(groups, deviation=np.sqrt(
            groups.deviation**2 + (ease * size.max()) ** 2 / 30 + (ease * size) ** 2))
    if groups.late is not None and not order.clocked:
        order, values = replace(order, clocked=True), np.insert(values, -2, 0.0)
    damping, late = 1e-3, _late(groups)
    left = _misfit(groups, order, values)
    if not np.abs(left).max() < FARTHEST_OFF:
        return None
    for taken in range(0, steps, STEPS_AT_ONCE):
        checkpoint()
        values, left, damping, is_still = network_kernel.stepped(
            values, left, damping, order.shape, groups.omega, late, groups.share, groups.gate, groups.turns,
            groups.gain, groups.deviation, min(STEPS_AT_ONCE, steps - taken), STILL)
        if is_still:
            break
    remains = float(np.linalg.norm(left) / np.sqrt(groups.freedom(values.size)))
    return NetworkFit(order, values, np.zeros((values.size, 0)), groups.unit, remains)


def with_spread(groups: Groups, fit: NetworkFit) -> NetworkFit:
    """The same, brought to the very least by its coefficients, with how well it is known."""
    still = 0.5 * LAST_STILL / groups.freedom(fit.values.size) / max(fit.left, 1.0) ** 2
    fit = by_coefficients(groups, fit, steps=LAST_STEPS, still=still)
    _, inverse, rows, scale = _told_by(groups, fit)
    return replace(fit, spread=(rows.T * inverse) / scale[:, np.newaxis] * max(fit.left, 1.0))


def left_by(groups: Groups, fit: NetworkFit) -> NetworkFit:
    """The same, with what it leaves of other groups."""
    left = float(np.linalg.norm(_misfit(groups, fit.order, fit.values)) / np.sqrt(groups.freedom(fit.values.size)))
    return replace(fit, left=left)


def by_coefficients(
    groups: Groups, fit: NetworkFit, *, steps: int, shares: tuple[float, ...] = SHARES, still: float = 0.0
) -> NetworkFit:
    """So many steps nearer, or as many as lead nearer by more than a share `still`; shares: of a step, which are tried
    one after the other."""
    for _ in range(steps):
        checkpoint()
        columns, inverse, rows, scale = _told_by(groups, fit)
        coefficients = fit.coefficients
        moved = (rows.T * inverse) @ (columns.T @ _misfit(groups, fit.order, fit.values)) / scale
        tries = (_with_coefficients(groups, fit, coefficients + share * moved) for share in shares)
        nearer = next((one for one in tries if one is not None), None)
        if nearer is None:
            break
        gained, fit = fit.left - nearer.left, nearer
        if gained < still * fit.left:
            break
    return fit


def _told_by(groups: Groups, fit: NetworkFit) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """The slopes by coefficients taken apart: columns (2g, v) and rows (v, v) of their singular vectors, what their
    values are divided by (v,), and what the slopes were (v,)."""
    slopes = _slopes_by_coefficients(groups, fit.order, fit.values)
    scale = np.linalg.norm(slopes, axis=0)
    scale[scale == 0] = 1.0
    columns, singular, rows = np.linalg.svd(slopes / scale, full_matrices=False)
    return columns, 1 / np.maximum(singular, 1e-10 * singular[0]), rows, scale


def _with_coefficients(groups: Groups, fit: NetworkFit, coefficients: FloatArray) -> NetworkFit | None:
    """None where that fits no better, or where a pole would grow. Where poles coincide their factors lead nowhere: any
    way from there is as good as its opposite, and only the coefficients tell the next step."""
    poles, zeros = fit.order.poles, fit.order.zeros
    if not np.isfinite(coefficients).all():
        return None
    below = factors_of(roots_from(coefficients[:poles]))
    if below.size < poles or (below <= 0).any():
        return None
    above = factors_of(roots_from(coefficients[poles : poles + zeros]))
    values = np.concatenate([np.log(below), above, coefficients[poles + zeros :]])
    there = left_by(groups, replace(fit, values=values))
    return there if there.left < fit.left else None


def product(values: FloatArray, order: Order, omega: FloatArray) -> ComplexArray:
    """(n,) the network at s = jω, ω (n,) in units of its own."""
    return network_kernel.product(values, order.shape, omega)


def _misfit(groups: Groups, order: Order, values: FloatArray) -> FloatArray:
    """What is left (2g,) in standard deviations of either part."""
    gain = groups.gain if groups.rings is None else groups.gain - _rung(groups.rings, groups.unit, order, values)
    return network_kernel.misfit(values, order.shape, groups.omega, _late(groups), groups.share, groups.gate,
                                 groups.turns, gain, groups.deviation)


def _rung(rings: Rings, unit: float, order: Order, values: FloatArray) -> ComplexArray:
    """(g,) what is heard of its rings."""
    poles, residues = _slow(order, values, rings.waits_s, unit)
    return rings.added(poles, residues, float(values[-1]) / unit, float(values[-3]) if order.clocked else 0.0)


def _slow(order: Order, values: FloatArray, waits_s: float, unit: float) -> tuple[ComplexArray, ComplexArray]:
    """As NetworkFit.rings has them."""
    poles, residues = network_rings_kernel.slow(values, order.shape, np.array([unit * waits_s]))
    return np.asarray(unit * poles), np.asarray(unit * residues)


def _late(groups: Groups) -> FloatArray:
    return np.zeros(0) if groups.late is None else groups.late


def _coefficients(values: FloatArray, order: Order) -> FloatArray:
    return np.concatenate([*_expanded(values, order), values[order.poles + order.zeros :]])


def _expanded(values: FloatArray, order: Order) -> tuple[FloatArray, FloatArray]:
    """Of the poles, of the zeros."""
    return (factors_kernel.expanded(np.exp(values[: order.poles])),
            factors_kernel.expanded(values[order.poles : order.poles + order.zeros]))


def _columns(order: Order, values: FloatArray, s: ComplexArray, late: FloatArray) -> ComplexArray:
    """(v, n) how the gain at s (n,) moves with every coefficient, no gate laid on it; late (n,): when each sounded."""
    total = product(values, order, s.imag)
    below, above = (total / np.polyval([1.0, *one[::-1]], s) for one in _expanded(values, order))
    clock = [-s * late * total] if order.clocked else []
    return np.stack([*(-below * s**j for j in range(order.poles)), *(above * s**j for j in range(order.zeros)), *clock,
                     total / values[-2], -s * total])


def _slopes_by_coefficients(groups: Groups, order: Order, values: FloatArray) -> FloatArray:
    """(2g, v) how the model moves with every coefficient, in standard deviations of either part."""
    s = np.asarray(1j * groups.omega)
    columns = list(_columns(order, values, s, _late(groups)))
    turn: ComplexArray | float = 1.0
    if order.clocked and groups.late is not None:
        turn = np.exp(-s * groups.late * values[-3])
    less = network_kernel.ring_slopes(values, order.shape, groups.omega, groups.gate, groups.turns)
    rings = groups.rings
    if less.size or rings is not None:
        by_value = np.linalg.pinv(_slopes(lambda moved: _coefficients(moved, order), values).real).T
    if less.size:
        columns = [column - own for column, own in zip(columns, by_value @ less, strict=True)]
    means = groups.means(np.stack(columns) * turn)
    if rings is not None:
        means += by_value @ _slopes(lambda moved: _rung(rings, groups.unit, order, moved), values).T
    slopes = (means / groups.deviation).T
    return np.concatenate([slopes.real, slopes.imag])


def _slopes(found: Callable[[FloatArray], FloatArray | ComplexArray], values: FloatArray) -> ComplexArray:
    """(…, v) how what is found moves with every value."""
    now, columns = found(values), []
    for i in range(values.size):
        step = 1e-6 * max(abs(values[i]), 1e-3)
        moved = values.copy()
        moved[i] += step
        columns.append((found(moved) - now) / step)
    return np.asarray(np.stack(columns, axis=-1), dtype=complex)
