"""A rational function and a delay through a few gains: what a network of lumped parts has, even between tones that
stand far apart.

Poles are moved by vector fitting (Gustavsen and Semlyen 1999, IEEE Trans. Power Delivery) from a spread over the band
until they stand still; the number of them is the smallest that leaves no more than the noise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.stopping import checkpoint

MOST_POLES, FEW_POLES = 14, 8  # tried; and of a filter
OWN = (1.0, 2.0, 4.0)  # radians at its cutoff by which a filter may be late
ENOUGH = 1.2  # RMS of what is left over, in standard deviations of the noise
ROUNDS, AGAIN = 12, 3  # until poles of a first fit stand still; from poles that stood still with other noise
FURTHEST_LATE, FURTHEST_S = 8.0, 5e-3  # radians of the loudest tone, or s: a record is found to within the longer
MOST_RAISED = 1.5  # nepers
GUESSED = 1e-3  # share by which poles of a first guess may still move


@dataclass(frozen=True, slots=True, eq=False)
class RationalFit:
    """exp(−s·delay)·(constant + Σ residue/(s − pole)), s = j·f/unit_hz; poles (n,) with their conjugates. delay (2,):
    the delay, and what of the other lateness there was. left: RMS of what it leaves over, in standard deviations."""

    unit_hz: float
    delay: FloatArray
    poles: ComplexArray
    weights: FloatArray  # (n + 1,) of the real basis, the constant last
    left: float

    def at(self, frequency_hz: FloatArray) -> ComplexArray:
        """(m,) gain."""
        s = np.asarray(1j * frequency_hz / self.unit_hz, dtype=complex)
        return np.asarray(np.exp(-s * self.delay[0]) * (_basis(s, self.poles) @ self.weights))


def fit_rational(
    frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray, lateness: FloatArray
) -> RationalFit:
    """The smallest fit that leaves no more than the noise, else the best of those tried: frequency_hz, gain and its
    standard deviation (|z|², RMS) all (n,), n ≥ 12. lateness (n,): a second delay of which each gain has a different
    amount, such as the time at which it was played, where clocks are not quite alike; its mean is 0."""
    best: RationalFit | None = None
    likely = likely_delays(frequency_hz, gain, deviation)
    for delays in (likely[:3], likely[3:]):
        for count in range(1, min(MOST_POLES, frequency_hz.size // 3) + 1):
            if best is not None and best.left < ENOUGH and count >= best.poles.size:
                break
            for delay in delays:
                found = refit(frequency_hz, gain, deviation, lateness, spread_over(frequency_hz, count),
                              np.array([delay, 0.0]), rounds=ROUNDS)
                enough = found.left < ENOUGH and best is not None and found.poles.size < best.poles.size
                if best is None or found.left < best.left or enough:
                    best = found
        assert best is not None
        if best.left < ENOUGH and best.poles.size <= FEW_POLES:
            break
    assert best is not None
    return best


def likely_delays(frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray) -> list[float]:
    """Delays, in 1/(2π·unit_hz) s, to begin with, the likeliest first: none, what the phases high up show, and that
    less what a filter may have of its own, which is cut off not far from there."""
    late = late_between_tones(frequency_hz, gain, deviation)
    unit_hz = float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    size = np.abs(gain)
    edge = float(frequency_hz[np.flatnonzero(size > 0.5 * size.max())[-1]]) / unit_hz
    return [0.0, _late(frequency_hz, gain, deviation), late, *(late - share / edge for share in OWN)]


@dataclass(frozen=True, slots=True, eq=False)
class PolesAndZeros:
    """gain·Π(s − zero)/Π(s − pole)·exp(−s·delay), in the units of what it was fitted to; left as in RationalFit."""

    poles: ComplexArray
    zeros: ComplexArray
    gain: float
    delay: float
    left: float


def fit_poles(
    omega: FloatArray, gain: ComplexArray, deviation: FloatArray, count: int
) -> PolesAndZeros | None:
    """A first guess with so many poles: omega (n,) rad per unit of time, gain and its deviation (n,). None where the
    points are too few for it."""
    if omega.size < 3 * count + 6:
        return None
    found: list[RationalFit] = []
    none = np.zeros(omega.size)
    for delay, delayed in ((0.0, False), (0.0, True), (_late(omega, gain, deviation), True)):
        if found and found[-1].left < 1:
            break  # a first guess need not be better
        found.append(refit(omega, gain, deviation, none, spread_over(omega, count), np.array([delay, 0.0]),
                           rounds=ROUNDS, delayed=delayed, still=GUESSED))
    best = min(found, key=lambda fit: fit.left)
    return poles_and_zeros(best)


def poles_and_zeros(best: RationalFit) -> PolesAndZeros:
    """The same in factors, in the units of the frequencies it was fitted to."""
    count = best.poles.size
    residues: list[complex] = []
    i = 0
    while i < count:
        if best.poles[i].imag == 0:
            residues.append(complex(best.weights[i]))
            i += 1
        else:
            half = complex(best.weights[i], best.weights[i + 1])
            residues += [half, half.conjugate()]
            i += 2
    above = best.weights[-1] * np.poly(best.poles)
    for i, residue in enumerate(residues):
        above = above + residue * np.concatenate([[0], np.atleast_1d(np.poly(np.delete(best.poles, i)))])
    above = np.real(above)
    first = int(np.flatnonzero(np.abs(above) > 1e-14 * np.abs(above).max())[0])
    zeros = np.roots(above[first:])
    unit = best.unit_hz
    # In the units of omega: every factor takes its unit along.
    scale = unit ** (count - zeros.size)
    return PolesAndZeros(unit * best.poles, np.asarray(unit * zeros, dtype=complex), float(above[first]) * scale,
                         float(best.delay[0]) / unit, best.left)


def _late(frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray) -> float:
    """The delay that the phase shows high up, where a filter has hardly any of its own."""
    clear = np.flatnonzero(np.abs(gain) > 30 * deviation)
    if clear.size < 6:
        return 0.0
    top = clear[-max(clear.size // 4, 6) :]
    phase = np.unwrap(np.angle(gain[top]))
    unit_hz = float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    return -float(np.polyfit(frequency_hz[top] / unit_hz, phase, 1)[0])


def late_between_tones(frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray) -> float:
    """The delay, in 1/(2π·unit_hz) s, that the phase shows high up where a filter has hardly any of its own, even where
    it turns by more than half a circle from tone to tone, as where a ring was taken for the beginning: of all delays
    that by which the phases come together, which no other does, as tones stand further apart the higher they are."""
    clear = np.flatnonzero(np.abs(gain) > 30 * deviation)
    if clear.size < 6:
        return 0.0
    top = clear[-max(clear.size // 4, 6) :]
    s = frequency_hz[top] / float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    loudest = frequency_hz[np.argmax(np.abs(gain))] / float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    unit_hz = float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    furthest = max(FURTHEST_LATE / min(loudest, s[0]), 2 * np.pi * unit_hz * FURTHEST_S)
    delays = np.arange(-furthest, furthest, 0.5 / s[-1])
    phasors = gain[top] / np.abs(gain[top])
    together = np.abs(np.exp(1j * np.outer(delays, s)) @ phasors)
    return float(delays[np.argmax(together)])


def refit(
    frequency_hz: FloatArray, gain: ComplexArray, deviation: FloatArray, lateness: FloatArray, poles: ComplexArray,
    delay: FloatArray, *, rounds: int = AGAIN, delayed: bool = True, still: float = 0.0,
    raised: FloatArray | None = None,
) -> RationalFit:
    """From poles and delays (in 1/(2π·unit_hz) s) that are nearly right. delayed: whether the delays are to be
    found; still: share of themselves by which poles, and of a radian by which delays, move when they are found; raised
    (n,): how much of a gain in nepers, to be found too, each had besides: it stands in the fit as a third delay."""
    unit_hz = float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    s, weight = np.asarray(1j * frequency_hz / unit_hz, dtype=complex), 1 / deviation

    def solved(design: ComplexArray, target: ComplexArray) -> FloatArray:
        rows = design * weight[:, np.newaxis]
        stacked = np.concatenate([rows.real, rows.imag])
        scale = np.linalg.norm(stacked, axis=0)
        scale[scale == 0] = 1.0  # where nothing was late
        wanted = target * weight
        answer = np.linalg.lstsq(stacked / scale, np.concatenate([wanted.real, wanted.imag]), rcond=None)[0]
        return np.asarray(answer / scale)

    moves = np.stack([s, s * lateness], axis=1)
    if raised is not None:
        moves, delay = np.concatenate([moves, -raised[:, np.newaxis]], axis=1), np.append(delay, 0.0)
    count = delay.size
    furthest = 2 * frequency_hz[-1] / frequency_hz[0]
    for _ in range(rounds):
        checkpoint()
        basis, early = _basis(s, poles), gain * np.exp(moves @ delay)
        # (1 + Σ moved·basis)·gain·(1 + s·later) = what the basis can: where that sum is zero the poles should stand.
        slower = early[:, np.newaxis] * moves * delayed
        design = np.concatenate([basis, -early[:, np.newaxis] * basis[:, :-1], -slower], axis=1)
        answer = solved(design, early)
        before, poles = poles, _moved(poles, answer[poles.size + 1 : -count])
        poles = poles / np.maximum(1.0, np.abs(poles) / furthest)  # one that runs away is a constant
        delay = delay + answer[-count:]
        delay[2:] = np.clip(delay[2:], -MOST_RAISED, MOST_RAISED)
        apart = np.abs(np.sort_complex(poles) - np.sort_complex(before)) / np.abs(poles)
        if apart.max(initial=0.0) <= still and np.abs(answer[-count:]).max() * abs(s[-1]) <= still:
            break
    basis, early = _basis(s, poles), gain * np.exp(moves @ delay)
    weights = solved(basis, early)
    free = max(2 * gain.size - 2 * poles.size - 3, 1)
    left = float(np.sqrt(2 * np.sum(np.abs((basis @ weights - early) * weight) ** 2) / free))
    return RationalFit(unit_hz, delay, poles, weights, left)


def spread_over(frequency_hz: FloatArray, count: int) -> ComplexArray:
    """Poles over the band to begin with, in pairs, and one real where the number is odd."""
    reach = float(np.sqrt(frequency_hz[-1] / frequency_hz[0]))
    places = reach ** np.linspace(-0.6, 0.6, count // 2) if count > 3 else np.ones(count // 2)
    pairs = np.concatenate([[place * (-0.3 + 1j), place * (-0.3 - 1j)] for place in places] or [[]])
    return np.asarray(np.concatenate([[-1.0 + 0j] * (count % 2), pairs]), dtype=complex)


def _basis(s: ComplexArray, poles: ComplexArray) -> ComplexArray:
    """(m, n + 1) real poles: 1/(s − p); pairs: sum and j times difference of both; last a constant."""
    columns = []
    i = 0
    while i < poles.size:
        pole = poles[i]
        if pole.imag == 0:
            columns.append(1 / (s - pole))
            i += 1
            continue
        one, other = 1 / (s - pole), 1 / (s - np.conj(pole))
        columns += [one + other, 1j * (one - other)]
        i += 2
    return np.stack([*columns, np.ones(s.size, dtype=complex)], axis=1)


def _moved(poles: ComplexArray, weights: FloatArray) -> ComplexArray:
    """The zeros of 1 + Σ weight·basis, made stable: where the poles should rather stand."""
    size = poles.size
    matrix, drive = np.zeros((size, size)), np.zeros(size)
    i = 0
    while i < size:
        pole = poles[i]
        if pole.imag == 0:
            matrix[i, i], drive[i] = pole.real, 1.0
            i += 1
            continue
        matrix[i : i + 2, i : i + 2] = [[pole.real, pole.imag], [-pole.imag, pole.real]]
        drive[i] = 2.0
        i += 2
    found = np.linalg.eigvals(matrix - np.outer(drive, weights))
    found = -np.abs(found.real) + 1j * found.imag
    real = found[np.abs(found.imag) < 1e-9 * np.abs(found)].real
    upper = found[found.imag >= 1e-9 * np.abs(found)]
    pairs = np.stack([upper, np.conj(upper)], axis=1).ravel()
    return np.asarray(np.concatenate([real.astype(complex), pairs]))
