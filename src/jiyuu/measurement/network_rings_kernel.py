"""What a gate takes of a network's rings, in loops.

Shapes, ω and gates as `network_kernel` has them."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.measurement.factors_kernel import roots_of
from jiyuu.measurement.turns_kernel import turned

Shape = tuple[int, int, int, int]
FOLLOWED = 1e-9  # what is left of a ring at the gate's end from which on the gate need not be laid on it
FORGOTTEN = 1e-9  # what is left of a ring that need not be followed into the next passage


@loop()
def slow(values: Row, shape: Shape, gate: Row) -> tuple[ComplexRow, ComplexRow]:
    """Poles (p,) and residues (p,) of the rings that the gate cuts; a residue of 0 where it need not be followed."""
    count, zeros, at_rest, _ = shape
    poles, residues = roots_of(np.exp(values[:count])), np.zeros(count, dtype=np.complex128)
    nulls = roots_of(values[count : count + zeros])
    for i in range(count):
        pole = poles[i]
        if np.exp(pole.real * gate[0]) < FOLLOWED:
            continue
        apart, nearest = complex(1.0, 0.0), np.inf
        for j in range(count):
            if j != i:
                apart = apart * (pole - poles[j])
                nearest = min(nearest, abs(pole - poles[j]))
        if nearest < 1e-6 * abs(pole):
            continue  # two poles in one place have no residues of their own
        above = complex(values[-2], 0.0)
        for _ in range(at_rest):
            above = above * pole
        for null in nulls:
            above = above * (pole - null)
        residues[i] = above / apart
    return poles, residues


@loop()
def turns_of(omega: Row, gate: Row) -> Table:
    """(8, n) cos and −sin of ω·length for the gate's flat part and its fall, the flat part before it and its rise: what
    every ring shares."""
    found = np.empty((8, omega.size))
    for row, length in enumerate((gate[0], gate[1], gate[2] - gate[3], gate[3])):
        both = turned(omega * length)
        for k in range(omega.size):
            found[2 * row, k], found[2 * row + 1, k] = both[0, k], -both[1, k]
    return found


@loop()
def _over(one: complex, other: complex) -> complex:
    """Their quotient by one division, three times as quick as one that minds parts near the ends of what floats hold:
    none here is."""
    size = 1.0 / (other.real * other.real + other.imag * other.imag)
    return complex((one.real * other.real + one.imag * other.imag) * size,
                   (one.imag * other.real - one.real * other.imag) * size)


@loop()
def _kept(q: complex, over_flat: complex, over_fall: complex, fall: float) -> complex:
    """∫ exp(q·t) over the flat part, then ∫ cos²(π·t/(2·fall))·exp(q·t) over the fall, from exp(q·length) of both."""
    falling = complex(0.0, 0.0)
    if fall > 0:
        falling = 0.5 * (_over(over_fall - 1, q) - _over((over_fall + 1) * q, q * q + (np.pi / fall) ** 2))
    return _over(over_flat - 1, q) + over_flat * falling


@loop()
def left_out(
    values: Row, shape: Shape, omega: Row, gate: Row, turns: Table
) -> ComplexRow:
    """(n,) what the gate takes of the network's rings, less what the passages before add to them; turns: as turns_of
    has them, or (8, 0), and then they are found where a ring needs them."""
    poles, residues = slow(values, shape, gate)
    found = np.zeros(omega.size, dtype=np.complex128)
    if not residues.any():
        return found
    if turns.shape[1] == 0:
        turns = turns_of(omega, gate)
    # Told from where the rings begin, which is before the gate's zero where they are loudest long after that.
    delay = values[-1]
    flat, fall, before, rise, period, count = (
        gate[0] - delay, gate[1], gate[2] - gate[3] + delay, gate[3], gate[4], int(gate[5]))
    real, imag = np.zeros(omega.size), np.zeros(omega.size)
    later, both = np.empty(omega.size, dtype=np.complex128), turned(omega * delay)
    for k in range(omega.size):
        later[k] = complex(both[0, k], both[1, k])
    for i in range(poles.size):
        if residues[i] == 0:
            continue
        pole, residue = poles[i], residues[i]
        over = np.exp(pole * period)
        carried, power = complex(0.0, 0.0), complex(1.0, 0.0)
        if count > 1 and abs(over) > FORGOTTEN:
            for m in range(1, count):
                power = power * over
                carried = carried + (count - m) / count * power
        end, fell = np.exp(pole * flat), np.exp(pole * fall)
        began, rose = np.exp(-pole * before), np.exp(-pole * rise)
        # Loops without branches, parts apart: what a processor does for several frequencies at once.
        for k in range(omega.size):
            q = pole - complex(0.0, omega[k])
            ring = -_over(complex(1.0, 0.0), q) - (1 + carried) * _kept(
                q, end * later[k] * complex(turns[0, k], turns[1, k]), fell * complex(turns[2, k], turns[3, k]), fall)
            added = residue * ring
            real[k] += added.real
            imag[k] += added.imag
        if carried != 0:
            for k in range(omega.size):
                # Before the beginning the gate rises: its falling part, run backwards.
                q = complex(0.0, omega[k]) - pole
                back = residue * carried * _kept(
                    q, began * later[k] * complex(turns[4, k], -turns[5, k]),
                    rose * complex(turns[6, k], -turns[7, k]), rise)
                real[k] -= back.real
                imag[k] -= back.imag
    for k in range(omega.size):
        found[k] = complex(real[k], imag[k]) * np.conj(later[k])
    return found
