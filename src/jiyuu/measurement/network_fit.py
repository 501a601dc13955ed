"""A network of lumped parts, and a delay, laid through every bin of a measured spectrum.

A grid of points, however fine, flattens a resonance that is sharper than its points stand apart; and the gate that cuts
an impulse response out ends a ring that lasts longer than it does. Here the gate and the means are laid on the network
as well: what is compared has suffered alike, and the network itself has not suffered at all. All of its values are
found together by damped least squares (Marquardt 1963, J. SIAM).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Cut, Groups, ring_left_out, scaled
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.stopping import checkpoint

STEPS = 40
STILL = 1e-3  # of χ²: smaller gains no longer matter
FOLLOWED = 1e-9  # what is left of a ring at the gate's end from which on the gate need not be laid on it


@dataclass(frozen=True, slots=True)
class Order:
    """Of a network: poles, zeros, and how many zeros more stand at 0."""

    poles: int
    zeros: int
    at_rest: int
    clocked: bool = False  # whether a clock's offset is among its values, before gain and delay

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
    def delay_s(self) -> float:
        return float(self.values[-1]) / self.unit

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
        return product(self.values, self.order, np.asarray(2j * np.pi * frequency_hz / self.unit))

    def level_db(self, frequency_hz: FloatArray) -> FloatArray:
        """(n,) level at any frequency."""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.at(frequency_hz)), 1e-20)))

    def as_cut(self, bins_hz: FloatArray, cut: Cut | None) -> ComplexArray:
        """(n,) what the gate makes of it."""
        s = np.asarray(2j * np.pi * bins_hz / self.unit)
        return _seen(self.values, self.order, s, None if cut is None else scaled(cut, self.unit))

    @property
    def coefficients(self) -> FloatArray:
        """(v,) of the polynomials of the poles and of the zeros, lowest first and without their leading 1, then gain
        and delay: poles that coincide, which hardly can be told apart, are known well by these."""
        return _coefficients(self.values, self.order)

    def drawn(self, count: int, generator: np.random.Generator) -> list[DrawnNetwork]:
        """Such networks as other noise might have given as well."""
        moved = self.coefficients + generator.standard_normal((count, self.spread.shape[1])) @ self.spread.T
        return [DrawnNetwork(one, self.order, self.unit) for one in moved]


@dataclass(frozen=True, slots=True, eq=False)
class DrawnNetwork:
    """By its coefficients, as NetworkFit has them."""

    coefficients: FloatArray
    order: Order
    unit: float

    def at(self, frequency_hz: FloatArray) -> ComplexArray:
        """(n,) gain, the delay in it."""
        s = 2j * np.pi * frequency_hz / self.unit
        n = self.order.poles
        below = np.polyval(np.append(1.0, self.coefficients[:n][::-1]), s)
        above = np.polyval(np.append(1.0, self.coefficients[n : n + self.order.zeros][::-1]), s)
        gain, delay = self.coefficients[-2:]
        return np.asarray(gain * s**self.order.at_rest * above / below * np.exp(-s * delay))

    def level_db(self, frequency_hz: FloatArray) -> FloatArray:
        """(n,)"""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.at(frequency_hz)), 1e-20)))


def settled(
    groups: Groups, order: Order, values: FloatArray, *, ease: float = 0.0, steps: int = STEPS
) -> NetworkFit | None:
    """All values together, from values that are nearly right. ease: share of the loudest that counts as noise too."""
    if ease:
        size = np.abs(groups.gain)
        groups = replace(groups, deviation=np.sqrt(
            groups.deviation**2 + (ease * size.max()) ** 2 / 30 + (ease * size) ** 2))
    if groups.nodes_sound is not None and not order.clocked:
        order, values = replace(order, clocked=True), np.insert(values, -2, 0.0)
    damping = 1e-3
    left, slopes = _misfit(groups, order, values), _slopes(groups, order, values)
    error = float(left @ left)
    if not np.isfinite(error):
        return None
    for _ in range(steps):
        checkpoint()
        scale = np.linalg.norm(slopes, axis=0)
        scale[scale == 0] = 1.0
        design = slopes / scale
        normal, pull = design.T @ design, design.T @ left
        gained = 0.0
        for _ in range(10):
            step = np.linalg.solve(normal + damping * np.eye(values.size), pull) / scale
            step[: order.poles] = np.clip(step[: order.poles], -1.0, 1.0)
            tried = values + step
            tried[: order.poles] = np.clip(tried[: order.poles], -60.0, 60.0)
            other = _misfit(groups, order, tried)
            found = float(other @ other)
            if found < error:
                gained = error - found
                values, left, error = tried, other, found
                slopes = _slopes(groups, order, values)
                damping = max(damping / 10, 1e-14)
                break
            damping = max(damping * 8, 1e-9)
        if gained < STILL * max(1.0, 1e-3 * error):
            break
    remains = float(np.sqrt(error / groups.freedom(values.size)))
    return NetworkFit(order, values, np.zeros((values.size, 0)), groups.unit, remains)


def with_spread(groups: Groups, fit: NetworkFit) -> NetworkFit:
    """The same, with how well it is known."""
    slopes = _slopes_by_coefficients(groups, fit.order, fit.values)
    scale = np.linalg.norm(slopes, axis=0)
    scale[scale == 0] = 1.0
    _, singular, rows = np.linalg.svd(slopes / scale, full_matrices=False)
    inverse = 1 / np.maximum(singular, 1e-10 * singular[0])
    return replace(fit, spread=(rows.T * inverse) / scale[:, np.newaxis] * max(fit.left, 1.0))


def factors_of(roots: ComplexArray) -> FloatArray:
    """Roots (n,) as the values of their factors: b and a of s² + a·s + b for every two, then c of s + c."""
    upper = roots[roots.imag > 1e-12 * np.abs(roots)]
    real = np.sort(roots[np.abs(roots.imag) <= 1e-12 * np.abs(roots)].real)
    values: list[float] = []
    for root in upper:
        values += [float(abs(root) ** 2), float(-2 * root.real)]
    while real.size > 1:
        values += [float(real[0] * real[1]), float(-real[0] - real[1])]
        real = real[2:]
    return np.array([*values, *(-real)], dtype=float)


def roots_of(factors: FloatArray) -> ComplexArray:
    found = []
    for b, a in factors[: factors.size // 2 * 2].reshape(-1, 2):
        root = np.sqrt(complex(a * a / 4 - b))
        # The larger first, the other from their product: no cancellation.
        one = -a / 2 - root if a > 0 else -a / 2 + root
        found += [one, b / one if one != 0 else -one]
    if factors.size % 2:
        found.append(complex(-factors[-1]))
    return np.array(found, dtype=complex)


def product(values: FloatArray, order: Order, s: ComplexArray) -> ComplexArray:
    total = values[-2] * np.exp(-s * values[-1]) * s**order.at_rest
    for factor in _each(np.exp(values[: order.poles]), s):
        total = total / factor
    for factor in _each(values[order.poles : order.poles + order.zeros], s):
        total = total * factor
    return np.asarray(total)


def _each(factors: FloatArray, s: ComplexArray) -> list[ComplexArray]:
    found = [s * s + a * s + b for b, a in factors[: factors.size // 2 * 2].reshape(-1, 2)]
    if factors.size % 2:
        found.append(s + factors[-1])
    return found


def _seen(values: FloatArray, order: Order, s: ComplexArray, cut: Cut | None) -> ComplexArray:
    """The product, less what the gate takes of rings that outlast it, and with what earlier passages add."""
    total = product(values, order, s)
    return total if cut is None else total - _left_out(values, order, s, cut)


def _slow(values: FloatArray, order: Order, cut: Cut) -> list[tuple[int, complex, complex]]:
    """(place, pole, residue) of the rings that the gate cuts."""
    poles = roots_of(np.exp(values[: order.poles]))
    zeros = roots_of(values[order.poles : order.poles + order.zeros])
    found = []
    for i, pole in enumerate(poles):
        if np.exp(pole.real * cut.flat) < FOLLOWED:
            continue
        apart = pole - np.delete(poles, i)
        if apart.size and np.abs(apart).min() < 1e-6 * abs(pole):
            continue  # two poles in one place have no residues of their own
        found.append((i, complex(pole), complex(
            values[-2] * pole**order.at_rest * np.prod(pole - zeros) / np.prod(apart))))
    return found


def _left_out(values: FloatArray, order: Order, s: ComplexArray, cut: Cut) -> ComplexArray:
    slow = _slow(values, order, cut)
    if not slow:
        return np.zeros_like(s)
    total = sum(residue * ring_left_out(pole, s, cut) for _, pole, residue in slow)
    return np.asarray(np.exp(-s * values[-1]) * total)


def _misfit(groups: Groups, order: Order, values: FloatArray) -> FloatArray:
    """What is left (2g,) in standard deviations of either part."""
    seen = _seen(values, order, groups.nodes_s, groups.cut) * _by_clock(groups, order, values)
    means = groups.means(seen[np.newaxis])[0]
    left = (groups.gain - means) / groups.deviation
    return np.concatenate([left.real, left.imag])


def _by_clock(groups: Groups, order: Order, values: FloatArray) -> ComplexArray | float:
    """What the recorder's clock makes of what sounded later."""
    if not order.clocked or groups.nodes_sound is None:
        return 1.0
    return np.asarray(np.exp(-groups.nodes_s * values[-3] * groups.nodes_sound))


def _slopes(groups: Groups, order: Order, values: FloatArray) -> FloatArray:
    """(2g, v) of the model, in the same standard deviations."""
    s, cut = groups.nodes_s, groups.cut
    total = product(values, order, s)
    columns: list[ComplexArray] = []
    factors = np.exp(values[: order.poles])
    for i, factor in enumerate(_each(factors, s)):
        share = -total / factor
        if 2 * i + 1 < order.poles:
            columns += [factors[2 * i] * share, factors[2 * i + 1] * s * share]
        else:
            columns.append(factors[2 * i] * share)
    for i, factor in enumerate(_each(values[order.poles : order.poles + order.zeros], s)):
        share = total / np.where(np.abs(factor) > 1e-300, factor, 1e-300)
        columns += [share, s * share] if 2 * i + 1 < order.zeros else [share]
    if order.clocked and groups.nodes_sound is not None:
        columns.append(-s * groups.nodes_sound * total)
    columns += [total / values[-2], -s * total]
    for place, column in _ring_slopes(values, order, s, cut).items():
        columns[place] = columns[place] - column
    slopes = (groups.means(np.stack(columns) * _by_clock(groups, order, values)) / groups.deviation).T
    return np.concatenate([slopes.real, slopes.imag])


def _ring_slopes(values: FloatArray, order: Order, s: ComplexArray, cut: Cut | None) -> dict[int, ComplexArray]:
    """How what the gate leaves out moves, by the place of the value: with the rings themselves, gain and delay; what
    else the network is made of moves it far less."""
    ringing = set() if cut is None else {place // 2 for place, _, _ in _slow(values, order, cut)}
    if cut is None or not ringing:
        return {}
    less = _left_out(values, order, s, cut)
    found = {values.size - 2: less / values[-2], values.size - 1: -s * less}
    for i in range(order.poles):
        if i // 2 in ringing:
            moved = values.copy()
            moved[i] += 1e-6
            found[i] = (_left_out(moved, order, s, cut) - less) / 1e-6
    return found


def _coefficients(values: FloatArray, order: Order) -> FloatArray:
    below = np.real(np.poly(roots_of(np.exp(values[: order.poles]))))[1:][::-1]
    above = np.real(np.atleast_1d(np.poly(roots_of(values[order.poles : order.poles + order.zeros]))))[1:][::-1]
    return np.concatenate([below, above, values[order.poles + order.zeros :]])


def _slopes_by_coefficients(groups: Groups, order: Order, values: FloatArray) -> FloatArray:
    """As _slopes, for the coefficients instead of the values."""
    s = groups.nodes_s
    total = product(values, order, s)
    below = total / np.polyval(np.real(np.poly(roots_of(np.exp(values[: order.poles])))), s)
    zeros = roots_of(values[order.poles : order.poles + order.zeros])
    above = total / np.polyval(np.real(np.atleast_1d(np.poly(zeros))), s)
    columns = [-below * s**j for j in range(order.poles)] + [above * s**j for j in range(order.zeros)]
    if order.clocked and groups.nodes_sound is not None:
        columns.append(-s * groups.nodes_sound * total)
    columns += [total / values[-2], -s * total]
    rings = _ring_slopes(values, order, s, groups.cut)
    if rings:
        turned = np.empty((values.size, values.size))
        for i in range(values.size):
            step = 1e-6 * max(abs(values[i]), 1e-3)
            moved = values.copy()
            moved[i] += step
            turned[:, i] = (_coefficients(moved, order) - _coefficients(values, order)) / step
        back = np.linalg.pinv(turned)  # how the values move with the coefficients
        for place, column in rings.items():
            for j in range(values.size):
                if back[place, j]:
                    columns[j] = columns[j] - column * back[place, j]
    slopes = (groups.means(np.stack(columns) * _by_clock(groups, order, values)) / groups.deviation).T
    return np.concatenate([slopes.real, slopes.imag])
