"""Small-signal behaviour of a network: response, group delay, poles, zeros, onset of self-oscillation.

With φ' = 1 the branches are v = (I − Z)⁻¹(V·x + U·u), so x' = A·x + B·u with A = Ω·W·(I − Z)⁻¹·V, and every output is
H(s) = C'·(sI − A)⁻¹·B + D'. Works in units of the cutoff's angular rate, so numbers stay near 1.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError

AT_ONCE = 32  # loop gains that are looked at together


@dataclass(frozen=True, slots=True, eq=False)
class StateSpace:
    """x' = A·x + B·u, y = C·x + D·u in time units of 1/rate (rad/s). A (…, n, n), B (…, n), C (…, r, n), D (…, r)."""

    A: FloatArray
    B: FloatArray
    C: FloatArray
    D: FloatArray
    rate: float


def state_space(
    network: Network, *, cutoff_hz: float | FloatArray, gain: float | FloatArray, slope: FloatArray | None = None
) -> StateSpace:
    """The network linearised, at one cutoff and gain or at each of those it names. slope (m,): φ' of each branch at the
    operating point, those at rest when not given."""
    slopes = network.slopes_at_rest() if slope is None else slope
    # φ = S·v with v = V·x + U·u + Z·φ
    inverse = np.linalg.inv(np.eye(slopes.size) - network.Z.at(gain) * slopes[np.newaxis, :])
    currents_x = slopes[:, np.newaxis] * (inverse @ network.V.at(gain))
    currents_u = slopes * (inverse @ network.U.at(gain))
    rate = 2 * np.pi * float(np.max(cutoff_hz))
    rates = network.rates(cutoff_hz) / rate
    return StateSpace(
        A=rates[:, np.newaxis] * (network.W @ currents_x),
        B=rates * (network.W @ currents_u),
        C=network.C.at(gain) + network.E.at(gain) @ currents_x,
        D=network.D.at(gain) + network.E.at(gain) @ currents_u,
        rate=rate,
    )


@dataclass(frozen=True, slots=True, eq=False)
class Response:
    """Complex gain of some modes over frequency: gain (r, n) in V/V, frequency_hz (n,), group_delay_s (r, n)."""

    frequency_hz: FloatArray
    modes: tuple[str, ...]
    gain: ComplexArray
    phase_deg: FloatArray
    group_delay_s: FloatArray

    @property
    def level_db(self) -> FloatArray:
        """(r, n) dB re the input."""
        return level_db(self.gain)


def level_db(gain: ComplexArray | FloatArray) -> FloatArray:
    """20·log10|gain|; an exact zero becomes −400 dB, below any converter, rather than −inf."""
    return np.asarray(20 * np.log10(np.maximum(np.abs(gain), 1e-20)))


def complex_gain(
    network: Network, frequency_hz: FloatArray, *, cutoff_hz: float, gain: float, modes: Sequence[str] | None = None
) -> ComplexArray:
    """H(j2πf) of the modes (all when None), shape (r, n). The fast path while a control is dragged."""
    return gains_of(state_space(network, cutoff_hz=cutoff_hz, gain=gain), frequency_hz, _rows(network, modes))


def gains_of(
    system: StateSpace, frequency_hz: FloatArray, rows: NDArray[np.intp] | slice = slice(None)
) -> ComplexArray:
    """(r, n) the same of a system's rows."""
    resolvent = _solve(system, frequency_hz, system.B)
    return np.asarray(system.C[rows] @ resolvent.T + system.D[rows, np.newaxis])


def quotient_gain(
    network: Network, frequency_hz: FloatArray, *, cutoff_hz: float, gain: float, mode: str
) -> ComplexArray:
    """(n,) the same of one mode as a quotient of two polynomials, several times as quick for many frequencies: to 1e-10
    of its largest value."""
    numerator, denominator, rate = _quotient(network, mode, cutoff_hz, gain)
    s = 2j * np.pi * np.asarray(frequency_hz, dtype=float) / rate
    return np.asarray(np.polyval(numerator, s) / np.polyval(denominator, s))


def _quotient(network: Network, mode: str, cutoff_hz: float, gain: float) -> tuple[FloatArray, FloatArray, float]:
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    row = network.output_index(mode)
    denominator = np.asarray(np.real(np.poly(system.A)), dtype=float)
    return _numerator(system, row, denominator), denominator, system.rate


def response(
    network: Network, frequency_hz: FloatArray, *, cutoff_hz: float, gain: float, modes: Sequence[str] | None = None
) -> Response:
    """Response with phase unwrapped from the poles and zeros, so that it does not depend on the grid.

    Phase counts from the outputs' limit at infinite frequency for a highpass and from 0 Hz for a lowpass: each zero
    at 0 Hz adds 90°, each pole takes 90° by the time it is passed. Group delay −dφ/dω is exact, from the resolvent
    squared."""
    names = tuple(modes) if modes is not None else network.outputs
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    rows = _rows(network, names)
    return response_of(replace(system, C=system.C[rows], D=system.D[rows]), frequency_hz, names)


def response_of(system: StateSpace, frequency_hz: FloatArray, names: tuple[str, ...]) -> Response:
    """The same of a system whose rows bear those names."""
    first = _solve(system, frequency_hz, system.B)
    second = _solve(system, frequency_hz, first)
    gains = system.C @ first.T + system.D[:, np.newaxis]
    derivative = -1j * (system.C @ second.T) / system.rate
    with np.errstate(divide="ignore", invalid="ignore"):
        delay = -np.imag(derivative / gains)
    delay = np.where(np.isfinite(delay), delay, 0.0)
    phase = np.stack([continuous_deg(system, row, frequency_hz, one) for row, one in enumerate(gains)])
    return Response(np.asarray(frequency_hz, dtype=float), names, gains, phase, delay)


def continuous_deg(system: StateSpace, row: int, frequency_hz: FloatArray, gains: ComplexArray) -> FloatArray:
    """(n,) continuous phase of a row whose complex gains (n,) are known already; see `response`."""
    principal = np.angle(gains)
    rough = _phase_from_roots(system, row, frequency_hz)
    return np.asarray(np.rad2deg(principal + 2 * np.pi * np.round((rough - principal) / (2 * np.pi))))


def _rows(network: Network, modes: Sequence[str] | None) -> NDArray[np.intp]:
    names = network.outputs if modes is None else modes
    return np.array([network.output_index(mode) for mode in names], dtype=np.intp)


def _solve(system: StateSpace, frequency_hz: FloatArray, right: FloatArray | ComplexArray) -> ComplexArray:
    """(sI − A)⁻¹·right for every frequency, shape (n_freq, n)."""
    s = 2j * np.pi * np.asarray(frequency_hz, dtype=float) / system.rate
    matrices = s[:, np.newaxis, np.newaxis] * np.eye(system.A.shape[0]) - system.A
    sides = np.broadcast_to(right, (s.size, system.A.shape[0]))[..., np.newaxis]
    return np.asarray(np.linalg.solve(matrices, sides)[..., 0])


def _phase_from_roots(system: StateSpace, row: int, frequency_hz: FloatArray) -> FloatArray:
    roots_of_denominator = np.linalg.eigvals(system.A).astype(complex)
    zeros, lead = _zeros(system, row)
    s = 2j * np.pi * np.asarray(frequency_hz, dtype=float) / system.rate

    def turn(roots: ComplexArray) -> FloatArray:
        # Each s − root moves through at most half a turn as s climbs the axis, so its principal angle is continuous,
        # except right of the axis, where it would jump at ±180°: there count from the mirrored root.
        total = np.zeros(s.size)
        for root in roots:
            if root.real > 1e-9 * max(1.0, abs(root)):
                total += np.pi - np.angle(s + np.conj(root))
            else:
                total += np.angle(s - root)
        return total

    return turn(zeros) - turn(roots_of_denominator) + (np.pi if lead < 0 else 0.0)


def poles(network: Network, *, cutoff_hz: float, gain: float) -> ComplexArray:
    """(n,) poles in rad/s."""
    return poles_of(state_space(network, cutoff_hz=cutoff_hz, gain=gain))


def poles_of(system: StateSpace) -> ComplexArray:
    """(n,) poles in rad/s."""
    return np.asarray(np.linalg.eigvals(system.A) * system.rate, dtype=complex)


def zeros(network: Network, mode: str, *, cutoff_hz: float, gain: float) -> ComplexArray:
    """Finite zeros of a mode in rad/s."""
    system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
    found, _ = _zeros(system, network.output_index(mode))
    return np.asarray(found * system.rate, dtype=complex)


def _zeros(system: StateSpace, row: int) -> tuple[ComplexArray, float]:
    """Zeros in units of the rate and the sign-carrying leading coefficient of the numerator."""
    numerator = _numerator(system, row, np.asarray(np.real(np.poly(system.A)), dtype=float))
    scale = np.abs(numerator).max(initial=0.0)
    numerator[np.abs(numerator) < 1e-11 * scale] = 0.0
    kept = np.trim_zeros(numerator, "f")
    if kept.size == 0:
        return np.zeros(0, dtype=complex), 1.0
    return np.roots(kept).astype(complex), float(kept[0])


def _numerator(system: StateSpace, row: int, denominator: FloatArray) -> FloatArray:
    """det(sI − A)·D + C·adj(sI − A)·B = det(sI − A + B·C) − det(sI − A)·(1 − D)."""
    return np.asarray(np.real(np.poly(system.A - np.outer(system.B, system.C[row]))
                              + (float(system.D[row]) - 1) * denominator))


@dataclass(frozen=True, slots=True)
class Onset:
    """Where self-oscillation begins: loop gain and frequency."""

    gain: float
    frequency_hz: float


def growth_rate(network: Network, *, cutoff_hz: float, gain: float) -> float:
    """Largest real part of the poles, 1/s; above 0 the rest state is unstable. Frozen rows (rate 0) do not count."""
    return growth_of(state_space(network, cutoff_hz=cutoff_hz, gain=gain), network.rates(cutoff_hz) > 0)


def growth_of(system: StateSpace, moving: NDArray[np.bool_]) -> float:
    """The same of a system, of whose rows those count that are moving (n,)."""
    return float(np.linalg.eigvals(system.A[np.ix_(moving, moving)]).real.max(initial=-np.inf) * system.rate)


def _crossing(excess: Callable[[float], float], low: float, high: float) -> float:
    """Where a function that is negative at low and positive at high crosses zero, halved down to rounding.

    Fifty evaluations of a small eigenvalue problem are nothing beside the half second that importing a root finder
    would add to every start."""
    while True:
        middle = 0.5 * (low + high)
        if middle in (low, high):
            return middle
        if excess(middle) < 0:
            low = middle
        else:
            high = middle


def ringing_q(network: Network, *, cutoff_hz: float, gain: float) -> float:
    """Q of the pole pair that rings longest, |p|/(−2·Re p); infinite where it no longer dies away, at most ½ where all
    poles are real."""
    found = poles(network, cutoff_hz=cutoff_hz, gain=gain)
    moving = found[np.abs(found) > 0]
    if (moving.real >= 0).any():
        return float("inf")
    pairs = moving[moving.imag > 1e-9 * np.abs(moving)]
    return float(np.max(np.abs(pairs) / (-2 * pairs.real))) if pairs.size else 0.5


def gain_of_q(network: Network, q: float, *, cutoff_hz: float) -> float:
    """Loop gain at which the pole pair that rings longest has a Q. Raises CircuitError where there is none such below
    the onset of self-oscillation."""
    begins = onset(network, cutoff_hz=cutoff_hz)
    highest = 0.0 if begins is None else begins.gain * (1 - 1e-9)
    least = ringing_q(network, cutoff_hz=cutoff_hz, gain=0.0)
    if not (np.isfinite(q) and least <= q <= ringing_q(network, cutoff_hz=cutoff_hz, gain=highest)):
        more = "and more with it" if highest else "and there is none"
        has = f"this circuit has {least:.3g} without resonance {more}"
        raise CircuitError(f"a Q of {q:g} is out of reach; {has}.")
    if q == least:
        return 0.0
    return _crossing(lambda gain: ringing_q(network, cutoff_hz=cutoff_hz, gain=gain) - q, 0.0, highest)


def _excesses(network: Network, cutoff_hz: float) -> Callable[[FloatArray], FloatArray]:
    """Of loop gains (m,) the largest real part of the poles (m,), in units of the cutoff.

    Where the equations are affine in the gain, as they are but for loops without a capacitor in them, they are set up
    twice and not once a gain."""
    scale, moving = 2 * np.pi * cutoff_hz, network.rates(cutoff_hz) > 0

    def matrix(gain: float) -> FloatArray:
        system = state_space(network, cutoff_hz=cutoff_hz, gain=gain)
        return np.asarray(system.A[np.ix_(moving, moving)] * (system.rate / scale))

    none, one, three = (matrix(gain) for gain in (0.0, 1.0, 3.0))
    slope = one - none
    affine = np.abs(none + 3 * slope - three).max(initial=0.0) <= 1e-13 * max(np.abs(three).max(initial=0.0), 1.0)

    def found(gains: FloatArray) -> FloatArray:
        matrices = none + gains[:, np.newaxis, np.newaxis] * slope if affine else np.stack(
            [matrix(float(gain)) for gain in gains])
        return np.asarray(np.linalg.eigvals(matrices).real.max(axis=1, initial=-np.inf))

    return found


def onset(network: Network, *, cutoff_hz: float, highest_gain: float = 200.0) -> Onset | None:
    """Smallest loop gain at which a pole pair reaches the imaginary axis; None when there is none up to highest_gain.

    Exact to rounding: the root of the largest real part over k. Raises CircuitError when the solution does not have
    a pole pair on the axis."""
    scale = 2 * np.pi * cutoff_hz
    excesses = _excesses(network, cutoff_hz)

    def excess(gain: float) -> float:
        return float(excesses(np.array([gain]))[0])

    grid = np.concatenate([np.linspace(0.0, 5.0, 101), np.geomspace(5.1, highest_gain, 150)])
    stable: float | None = None
    rates = (rate for first in range(0, grid.size, AT_ONCE) for rate in excesses(grid[first : first + AT_ONCE]))
    for candidate, rate in zip(grid, rates, strict=True):
        if rate < -1e-12:
            stable = float(candidate)
        elif rate > 1e-12:
            gain = 0.0 if stable is None else _crossing(excess, stable, float(candidate))
            if stable is None:  # unstable without any resonance: it begins at once
                loudest = np.linalg.eigvals(state_space(network, cutoff_hz=cutoff_hz, gain=0.0).A)
                return Onset(0.0, float(abs(loudest[np.argmax(loudest.real)].imag) * cutoff_hz))
            roots = np.linalg.eigvals(state_space(network, cutoff_hz=cutoff_hz, gain=gain).A)
            critical = roots[np.argmax(roots.real + 1e-9 * (roots.imag > 0))]
            if abs(critical.real) > 1e-6:
                raise CircuitError(f"The onset of self-oscillation near k = {gain:g} could not be placed exactly.")
            return Onset(gain, float(abs(critical.imag) * scale / (2 * np.pi)))
    return None
