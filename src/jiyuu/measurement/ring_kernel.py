"""The loops of `ring_fit`.

Columns stand one after the other, (k, n): cosine and sine of every pair, the reals, a constant."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, Row, Table
from jiyuu.compiled.loops import loop
from jiyuu.measurement.rows_kernel import inner


@loop()
def columns_of(t: Row, poles: ComplexRow, rates: Row) -> Table:
    """(2p + r + 1, n)"""
    pairs = poles.size
    found = np.ones((2 * pairs + rates.size + 1, t.size))
    for i in range(pairs):
        decay, turn = poles[i].real, poles[i].imag
        for m in range(t.size):
            size = np.exp(decay * t[m])
            found[2 * i, m] = size * np.cos(turn * t[m])
            found[2 * i + 1, m] = size * np.sin(turn * t[m])
    for i in range(rates.size):
        for m in range(t.size):
            found[2 * pairs + i, m] = np.exp(-rates[i] * t[m])
    return found


@loop()
def spanned(columns: Table, y: Row) -> tuple[Table, Row, Row, float]:
    """(what columns (k, n) span, orthonormal (k, n); the amplitudes (k,) of what is nearest to y (n,) there; that less
    y; the least share of a column that none before it has). By Gram and Schmidt, gone through twice (Giraud et al.
    2005, Numerische Mathematik)."""
    count = columns.shape[0]
    onto = columns.copy()
    upper = np.zeros((count, count))
    pull = np.zeros(count)
    left = -y
    least = 1.0
    for j in range(count):
        here = onto[j]
        whole = np.sqrt(inner(here, here))
        for _ in range(2):
            for i in range(j):
                share = inner(onto[i], here)
                upper[i, j] += share
                before = onto[i]
                for m in range(y.size):
                    here[m] -= share * before[m]
        size = np.sqrt(inner(here, here))
        least = min(least, size / whole if whole > 0 else 0.0)
        upper[j, j] = size
        if size > 0:
            for m in range(y.size):
                here[m] /= size
        pull[j] = -inner(here, left)
        for m in range(y.size):
            left[m] += pull[j] * here[m]
    amplitudes = np.zeros(count)
    for j in range(count - 1, -1, -1):
        rest = pull[j]
        for i in range(j + 1, count):
            rest -= upper[j, i] * amplitudes[i]
        amplitudes[j] = rest / upper[j, j]
    return onto, amplitudes, left, least


@loop()
def slopes_of(
    t: Row, columns: Table, poles: ComplexRow, rates: Row, amplitudes: Row
) -> Table:
    """(2p + r, n) by the logarithms of decay, pitch and rate, the amplitudes held."""
    pairs = poles.size
    found = np.empty((2 * pairs + rates.size, t.size))
    for i in range(pairs):
        decay, turn, a, b = poles[i].real, poles[i].imag, amplitudes[2 * i], amplitudes[2 * i + 1]
        for m in range(t.size):
            cosine, sine = columns[2 * i, m], columns[2 * i + 1, m]
            # y = Re[(a − jb)·e^{pt}]
            found[2 * i, m] = decay * t[m] * (a * cosine + b * sine)
            found[2 * i + 1, m] = turn * t[m] * (b * cosine - a * sine)
    for i in range(rates.size):
        first = 2 * pairs + i
        for m in range(t.size):
            found[first, m] = -amplitudes[first] * rates[i] * t[m] * columns[first, m]
    return found


@loop()
def beside(slopes: Table, onto: Table) -> Table:
    """Slopes (p, n), less what lies in an orthonormal span (k, n)."""
    found = slopes.copy()
    for j in range(found.shape[0]):
        here = found[j]
        for i in range(onto.shape[0]):
            share, before = inner(onto[i], here), onto[i]
            for m in range(here.size):
                here[m] -= share * before[m]
    return found
