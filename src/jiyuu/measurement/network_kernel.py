"""The loops of `network_fit`.

A shape is (poles, zeros, zeros at 0, whether a clock is among the values); ω in units of the fit, s = jω everywhere; a
gate is what `Cut` holds, in 1/unit, empty where there was none."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, ComplexTable, Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.measurement.network_rings_kernel import Shape, left_out, slow
from jiyuu.measurement.rows_kernel import inner, solved
from jiyuu.measurement.turns_kernel import turned

MOVED = 1e-6
DAMPED_AT_MOST = 10  # times a step is shortened
FARTHEST = 60.0  # that the logarithm of a pole's factor may go to


@loop()
def _parts(values: Row, shape: Shape, omega: Row) -> Table:
    """(2, n) real and imaginary part of the network at ω (n,). One factor after the other over all frequencies, parts
    apart: what a processor does for several of them at once."""
    poles, zeros, at_rest, _ = shape
    below, above, gain = np.exp(values[:poles]), values[poles : poles + zeros], values[-2]
    found = turned(omega * values[-1])
    real, imag = found[0], found[1]
    for k in range(omega.size):
        real[k], imag[k] = gain * real[k], -gain * imag[k]
    for _ in range(at_rest):
        for k in range(omega.size):
            real[k], imag[k] = -omega[k] * imag[k], omega[k] * real[k]
    for i in range(0, poles, 2):
        still, moves, twice = below[i], below[i + 1] if i + 1 < poles else 1.0, 1.0 if i + 1 < poles else 0.0
        for k in range(omega.size):
            a, b = still - twice * omega[k] * omega[k], moves * omega[k]
            size, one = 1.0 / (a * a + b * b), real[k]
            real[k], imag[k] = (one * a + imag[k] * b) * size, (imag[k] * a - one * b) * size
    for i in range(0, zeros, 2):
        still, moves, twice = above[i], above[i + 1] if i + 1 < zeros else 1.0, 1.0 if i + 1 < zeros else 0.0
        for k in range(omega.size):
            a, b, one = still - twice * omega[k] * omega[k], moves * omega[k], real[k]
            real[k], imag[k] = one * a - imag[k] * b, one * b + imag[k] * a
    return found


@loop()
def product(values: Row, shape: Shape, omega: Row) -> ComplexRow:
    """(n,) the network at ω (n,)."""
    parts = _parts(values, shape, omega)
    found = np.empty(omega.size, dtype=np.complex128)
    for k in range(omega.size):
        found[k] = complex(parts[0, k], parts[1, k])
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
    return _misfit_of(_parts(values, shape, omega), values, shape, omega, late, share, gate, turns, gain, deviation)


@loop()
def _misfit_of(
    parts: Table, values: Row, shape: Shape, omega: Row, late: Row, share: Table, gate: Row, turns: Table,
    gain: ComplexRow, deviation: Row,
) -> Row:
    """As misfit has it, by the network that the values make (2, 3g)."""
    real, imag = parts[0].copy(), parts[1].copy()
    if gate.size:
        less = left_out(values, shape, omega, gate, turns)
        for k in range(omega.size):
            real[k] -= less[k].real
            imag[k] -= less[k].imag
    if shape[3]:
        _sounds_late(real, imag, turned(omega * values[-3] * late))
    groups, nodes = share.shape
    left = np.empty(2 * groups)
    for g in range(groups):
        one, other = 0.0, 0.0
        for j in range(nodes):
            one += share[g, j] * real[g * nodes + j]
            other += share[g, j] * imag[g * nodes + j]
        left[g] = (gain[g].real - one) / deviation[g]
        left[groups + g] = (gain[g].imag - other) / deviation[g]
    return left


@loop()
def _sounds_late(real: Row, imag: Row, turn: Table) -> None:
    """Turns real and imaginary parts back, by cosines and sines."""
    for k in range(real.size):
        one = real[k]
        real[k] = one * turn[0, k] + imag[k] * turn[1, k]
        imag[k] = imag[k] * turn[0, k] - one * turn[1, k]


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
    return _slopes_of(_parts(values, shape, omega), values, shape, omega, late, share, gate, turns, deviation)


@loop()
def _factor_slopes(
    still: float, moves: float, pair: int, by: float, total: Table, omega: Row, by_still: Table, by_moves: Table,
) -> None:
    """What a factor's values move, into (2, n) each: total (2, n), `by` times, over it. pair: whether it is
    s² + moves·s + still, or s + still."""
    twice, along = (1.0, moves) if pair else (0.0, 1.0)
    for k in range(omega.size):
        a, b = still - twice * omega[k] * omega[k], along * omega[k]
        at_zero = a * a + b * b < 1e-200
        a, b = 1e-100 if at_zero else a, 0.0 if at_zero else b
        size, one, other = 1.0 / (a * a + b * b), by * total[0, k], by * total[1, k]
        by_still[0, k], by_still[1, k] = (one * a + other * b) * size, (other * a - one * b) * size
    if pair:
        for k in range(omega.size):
            by_moves[0, k], by_moves[1, k] = -omega[k] * by_still[1, k], omega[k] * by_still[0, k]


@loop()
def _slopes_of(
    parts: Table, values: Row, shape: Shape, omega: Row, late: Row, share: Table, gate: Row, turns: Table,
    deviation: Row,
) -> Table:
    """As slopes has them, by the network that the values make (2, 3g)."""
    poles, zeros, _, clocked = shape
    count, groups, nodes = values.size, share.shape[0], share.shape[1]
    below, above = np.exp(values[:poles]), values[poles : poles + zeros]
    rings = ring_slopes(values, shape, omega, gate, turns)
    rows = np.empty((count, 2, omega.size))
    for i in range(0, poles, 2):
        pair = int(i + 1 < poles)
        other = i + pair
        _factor_slopes(below[i], below[other], pair, -1.0, parts, omega, rows[i], rows[other])
        for v in range(i, other + 1):
            for k in range(omega.size):
                rows[v, 0, k] *= below[v]
                rows[v, 1, k] *= below[v]
    for i in range(0, zeros, 2):
        pair = int(i + 1 < zeros)
        other = i + pair
        _factor_slopes(above[i], above[other], pair, 1.0, parts, omega, rows[poles + i], rows[poles + other])
    gain, delay, clock = count - 2, count - 1, count - 3
    for k in range(omega.size):
        rows[gain, 0, k], rows[gain, 1, k] = parts[0, k] / values[gain], parts[1, k] / values[gain]
        rows[delay, 0, k], rows[delay, 1, k] = omega[k] * parts[1, k], -omega[k] * parts[0, k]
    if clocked:
        for k in range(omega.size):
            rows[clock, 0, k], rows[clock, 1, k] = late[k] * rows[delay, 0, k], late[k] * rows[delay, 1, k]
    if rings.shape[0]:
        for v in range(count):
            for k in range(omega.size):
                rows[v, 0, k] -= rings[v, k].real
                rows[v, 1, k] -= rings[v, k].imag
    if clocked:
        turn = turned(omega * values[clock] * late)
        for v in range(count):
            _sounds_late(rows[v, 0], rows[v, 1], turn)
    found, counts = np.zeros((count, 2 * groups)), np.empty((groups, nodes))
    for g in range(groups):
        for j in range(nodes):
            counts[g, j] = share[g, j] / deviation[g]
    for v in range(count):
        for part in range(2):
            row, into = rows[v, part], found[v, part * groups : (part + 1) * groups]
            for g in range(groups):
                for j in range(nodes):
                    into[g] += counts[g, j] * row[g * nodes + j]
    return found


@loop()
def _one_step(
    values: Row, parts: Table, left: Row, damping: float, shape: Shape, omega: Row, late: Row, share: Table, gate: Row,
    turns: Table, gain: ComplexRow, deviation: Row,
) -> tuple[Row, Table, Row, float]:
    """(values, the network that they make, what they leave, damping) after a step of Levenberg and Marquardt, damped
    until it helps; as they were where that is of no use."""
    count, poles, error = values.size, shape[0], inner(left, left)
    design = _slopes_of(parts, values, shape, omega, late, share, gate, turns, deviation)
    normal, pull, scale = np.empty((count, count)), np.empty(count), np.ones(count)
    for v in range(count):
        square = inner(design[v], design[v])
        scale[v] = np.sqrt(square) if square > 0 else 1.0
        pull[v] = inner(design[v], left) / scale[v]
        if not np.isfinite(square + pull[v]):
            return values, parts, left, damping
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
        there = _parts(tried, shape, omega)
        remains = _misfit_of(there, tried, shape, omega, late, share, gate, turns, gain, deviation)
        if inner(remains, remains) < error:
            return tried, there, remains, max(damping / 10, 1e-14)
        damping = max(damping * 8, 1e-9)
    return values, parts, left, damping


@loop()
def stepped(
    values: Row, left: Row, damping: float, shape: Shape, omega: Row, late: Row, share: Table, gate: Row, turns: Table,
    gain: ComplexRow, deviation: Row, most: int, still: float,
) -> tuple[Row, Row, float, int]:
    """(values, what they leave, damping, whether that was all): so many steps, or as many as make the square of what is
    left less by a share `still` of 1 and of its own thousandth. Other arguments as in misfit."""
    parts = _parts(values, shape, omega)
    for _ in range(most):
        error = inner(left, left)
        values, parts, left, damping = _one_step(
            values, parts, left, damping, shape, omega, late, share, gate, turns, gain, deviation)
        now = inner(left, left)
        if not error - now >= still * max(1.0, 1e-3 * now):
            return values, left, damping, 1
    return values, left, damping, 0
