"""The loops of `network_fit`.

A shape is (poles, zeros, zeros at 0, whether a clock is among the values); ω in units of the fit, s = jω everywhere; a
gate is what `Cut` holds, in 1/unit, empty where there was none."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, ComplexTable, Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.measurement.rows_kernel import inner, solved

Shape = tuple[int, int, int, int]
FOLLOWED = 1e-9  # what is left of a ring at the gate's end from which on the gate need not be laid on it
FORGOTTEN = 1e-9  # what is left of a ring that need not be followed into the next passage
MOVED = 1e-6
DAMPED_AT_MOST = 10  # times a step is shortened
FARTHEST = 60.0  # that the logarithm of a pole's factor may go to


@loop()
def roots_of(factors: Row) -> ComplexRow:
    """Of s² + a·s + b for every two (b, a), then of s + c."""
    found = np.empty(factors.size, dtype=np.complex128)
    for i in range(factors.size // 2):
        b, a = factors[2 * i], factors[2 * i + 1]
        root = np.sqrt(complex(a * a / 4 - b))
        # The larger first, the other from their product: no cancellation.
        one = -a / 2 - root if a > 0 else -a / 2 + root
        found[2 * i] = one
        found[2 * i + 1] = b / one if one != 0 else -one
    if factors.size % 2:
        found[-1] = -factors[-1]
    return found


@loop()
def expanded(factors: Row) -> Row:
    """(n,) their product's coefficients, lowest first and without the leading 1; factors as roots_of has them."""
    found = np.zeros(factors.size + 1)
    found[0], size = 1.0, 0
    for i in range(0, factors.size - 1, 2):
        b, a = factors[i], factors[i + 1]
        size += 2
        for k in range(size, -1, -1):
            found[k] = (found[k - 2] if k > 1 else 0.0) + a * (found[k - 1] if k else 0.0) + b * found[k]
    if factors.size % 2:
        for k in range(size + 1, -1, -1):
            found[k] = (found[k - 1] if k else 0.0) + factors[-1] * found[k]
    return found[:-1].copy()


@loop()
def _factor(factors: Row, i: int, omega: float) -> complex:
    if 2 * i + 1 < factors.size:
        return complex(factors[2 * i] - omega * omega, factors[2 * i + 1] * omega)
    return complex(factors[2 * i], omega)


@loop()
def _over(one: complex, other: complex) -> complex:
    """Their quotient by one division, three times as quick as one that minds parts near the ends of what floats hold:
    none here is."""
    size = 1.0 / (other.real * other.real + other.imag * other.imag)
    return complex((one.real * other.real + one.imag * other.imag) * size,
                   (one.imag * other.real - one.real * other.imag) * size)


@loop()
def _at(
    below: Row, above: Row, at_rest: int, gain: float, delay: float, omega: float
) -> complex:
    total = gain * complex(np.cos(omega * delay), -np.sin(omega * delay))
    for _ in range(at_rest):
        total = complex(-omega * total.imag, omega * total.real)
    for i in range((below.size + 1) // 2):
        total = _over(total, _factor(below, i, omega))
    for i in range((above.size + 1) // 2):
        total = total * _factor(above, i, omega)
    return total


@loop()
def product(values: Row, shape: Shape, omega: Row) -> ComplexRow:
    """(n,) the network at ω (n,)."""
    poles, zeros, at_rest, _ = shape
    below, above = np.exp(values[:poles]), values[poles : poles + zeros]
    found = np.empty(omega.size, dtype=np.complex128)
    for k in range(omega.size):
        found[k] = _at(below, above, at_rest, values[-2], values[-1], omega[k])
    return found


@loop()
def turned_back(turn: ComplexRow, omega: Row, step: float, most: int) -> Row:
    """(2·most + 1,) the real part of Σ turn·exp(jω·i·step) for i from −most to most."""
    found = np.zeros(2 * most + 1)
    for k in range(omega.size):
        angle = omega[k] * step
        one = complex(np.cos(angle), np.sin(angle))
        here = turn[k] * complex(np.cos(most * angle), -np.sin(most * angle))
        for i in range(found.size):
            found[i] += here.real
            here = here * one
    return found


@loop()
def by_coefficients(coefficients: Row, shape: Shape, omega: Row) -> ComplexRow:
    """(n,) by the polynomials of poles and zeros, lowest first and without their leading 1, then gain and delay."""
    poles, zeros, at_rest, _ = shape
    found = np.empty(omega.size, dtype=np.complex128)
    gain, delay = coefficients[-2], coefficients[-1]
    for k in range(omega.size):
        s, below, above = complex(0.0, omega[k]), complex(1.0, 0.0), complex(1.0, 0.0)
        for i in range(poles - 1, -1, -1):
            below = below * s + coefficients[i]
        for i in range(poles + zeros - 1, poles - 1, -1):
            above = above * s + coefficients[i]
        total = gain * above / below * complex(np.cos(omega[k] * delay), -np.sin(omega[k] * delay))
        for _ in range(at_rest):
            total = total * s
        found[k] = total
    return found


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
        for k in range(omega.size):
            found[2 * row, k], found[2 * row + 1, k] = np.cos(omega[k] * length), -np.sin(omega[k] * length)
    return found


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
    later = np.empty(omega.size, dtype=np.complex128)
    for k in range(omega.size):
        later[k] = complex(np.cos(omega[k] * delay), np.sin(omega[k] * delay))
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


@loop()
def seen(
    values: Row, shape: Shape, omega: Row, gate: Row, turns: Table
) -> ComplexRow:
    """(n,) the network behind the gate; turns: as in left_out."""
    found = product(values, shape, omega)
    return found - left_out(values, shape, omega, gate, turns) if gate.size else found


@loop()
def misfit(
    values: Row, shape: Shape, omega: Row, late: Row, share: Table, gate: Row,
    turns: Table, gain: ComplexRow, deviation: Row,
) -> Row:
    """(2g,) what is left in standard deviations of either part: of the means gain (g,) of what stands at the nodes ω
    (3g,), each counting its share (g, 3) and sounding late (3g,)."""
    model = seen(values, shape, omega, gate, turns)
    groups, nodes = share.shape
    left = np.empty(2 * groups)
    for g in range(groups):
        mean = complex(0.0, 0.0)
        for j in range(nodes):
            k = g * nodes + j
            heard = model[k]
            if shape[3]:
                turn = omega[k] * values[-3] * late[k]
                heard = heard * complex(np.cos(turn), -np.sin(turn))
            mean = mean + share[g, j] * heard
        apart = (gain[g] - mean) / deviation[g]
        left[g], left[groups + g] = apart.real, apart.imag
    return left


@loop()
def ring_slopes(
    values: Row, shape: Shape, omega: Row, gate: Row, turns: Table
) -> ComplexTable:
    """(v, n) how what is left out moves by every value, or (0, n) where no ring outlasts the gate."""
    if gate.size == 0 or not slow(values, shape, gate)[1].any():
        return np.zeros((0, omega.size), dtype=np.complex128)
    found, now = np.zeros((values.size, omega.size), dtype=np.complex128), left_out(values, shape, omega, gate, turns)
    gain, delay = values.size - 2, values.size - 1
    for i in range(values.size):
        if i < shape[0] + shape[1] or i == delay:
            moved = values.copy()
            moved[i] += MOVED
            there = left_out(moved, shape, omega, gate, turns)
            for k in range(omega.size):
                found[i, k] = (there[k] - now[k]) / MOVED
    for k in range(omega.size):
        found[gain, k] = now[k] / values[gain]
    return found


@loop()
def slopes(
    values: Row, shape: Shape, omega: Row, late: Row, share: Table, gate: Row,
    turns: Table, deviation: Row,
) -> Table:
    """(v, 2g) of the model by its values, in the same standard deviations; arguments as in misfit."""
    poles, zeros, at_rest, clocked = shape
    count, groups, nodes = values.size, share.shape[0], share.shape[1]
    below, above = np.exp(values[:poles]), values[poles : poles + zeros]
    rings = ring_slopes(values, shape, omega, gate, turns)
    found = np.empty((count, 2 * groups))
    row, real, imag = np.empty(count, dtype=np.complex128), np.empty(count), np.empty(count)
    for g in range(groups):
        for v in range(count):
            real[v], imag[v] = 0.0, 0.0
        for j in range(nodes):
            k = g * nodes + j
            w, s = omega[k], complex(0.0, omega[k])
            total = _at(below, above, at_rest, values[-2], values[-1], w)
            for i in range((poles + 1) // 2):
                part = _over(-total, _factor(below, i, w))
                row[2 * i] = below[2 * i] * part
                if 2 * i + 1 < poles:
                    row[2 * i + 1] = below[2 * i + 1] * s * part
            for i in range((zeros + 1) // 2):
                factor = _factor(above, i, w)
                if abs(factor) < 1e-100:
                    factor = complex(1e-100, 0.0)
                part = _over(total, factor)
                row[poles + 2 * i] = part
                if 2 * i + 1 < zeros:
                    row[poles + 2 * i + 1] = s * part
            row[count - 2], row[count - 1] = total / values[-2], -s * total
            if clocked:
                row[count - 3] = -s * late[k] * total
            if rings.shape[0]:
                for v in range(count):
                    row[v] = row[v] - rings[v, k]
            if clocked:
                angle = w * values[-3] * late[k]
                turn = complex(np.cos(angle), -np.sin(angle))
                for v in range(count):
                    row[v] = row[v] * turn
            counts = share[g, j] / deviation[g]
            for v in range(count):
                real[v] += counts * row[v].real
                imag[v] += counts * row[v].imag
        for v in range(count):
            found[v, g], found[v, groups + g] = real[v], imag[v]
    return found


@loop()
def _one_step(
    values: Row, left: Row, damping: float, shape: Shape, omega: Row, late: Row, share: Table, gate: Row, turns: Table,
    gain: ComplexRow, deviation: Row,
) -> tuple[Row, Row, float]:
    """(values, what they leave, damping) after a step of Levenberg and Marquardt, damped until it helps; as they were
    where that is of no use."""
    count, poles, error = values.size, shape[0], inner(left, left)
    design = slopes(values, shape, omega, late, share, gate, turns, deviation)
    normal, pull, scale = np.empty((count, count)), np.empty(count), np.ones(count)
    for v in range(count):
        square = inner(design[v], design[v])
        scale[v] = np.sqrt(square) if square > 0 else 1.0
        pull[v] = inner(design[v], left) / scale[v]
        if not np.isfinite(square + pull[v]):
            return values, left, damping
        for other in range(v + 1):
            normal[v, other] = inner(design[v], design[other]) / (scale[v] * scale[other])
    for _ in range(DAMPED_AT_MOST):
        step, tried = solved(normal, damping, pull), values.copy()
        for v in range(count):
            way = step[v] / scale[v]
            if v < poles:
                tried[v] = min(max(tried[v] + min(max(way, -1.0), 1.0), -FARTHEST), FARTHEST)
            else:
                tried[v] += way
        remains = misfit(tried, shape, omega, late, share, gate, turns, gain, deviation)
        if inner(remains, remains) < error:
            return tried, remains, max(damping / 10, 1e-14)
        damping = max(damping * 8, 1e-9)
    return values, left, damping


@loop()
def stepped(
    values: Row, left: Row, damping: float, shape: Shape, omega: Row, late: Row, share: Table, gate: Row, turns: Table,
    gain: ComplexRow, deviation: Row, most: int, still: float,
) -> tuple[Row, Row, float, int]:
    """(values, what they leave, damping, whether that was all): so many steps, or as many as make the square of what is
    left less by a share `still` of 1 and of its own thousandth. Other arguments as in misfit."""
    for _ in range(most):
        error = inner(left, left)
        values, left, damping = _one_step(
            values, left, damping, shape, omega, late, share, gate, turns, gain, deviation)
        now = inner(left, left)
        if not error - now >= still * max(1.0, 1e-3 * now):
            return values, left, damping, 1
    return values, left, damping, 0
