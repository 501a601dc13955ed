"""The loop of `tones_ringing`."""

import numpy as np

from jiyuu.compiled.entry import ComplexRow, Places, Row
from jiyuu.compiled.loops import loop

AT_ONCE = 64  # samples: more than the sums of one wait for each other


@loop("reassoc", "contract")
def states(record: Row, places: Places, turn: complex) -> ComplexRow:
    """(n,) Σ record[m]·turn^(place − m) over all m up to each of the places (n,), which rise."""
    found = np.empty(places.size, dtype=np.complex128)
    real, imag = np.empty(AT_ONCE), np.empty(AT_ONCE)
    power = complex(1.0, 0.0)
    for i in range(AT_ONCE - 1, -1, -1):
        real[i], imag[i] = power.real, power.imag
        power = power * turn
    state, at = complex(0.0, 0.0), 0
    for i in range(places.size):
        while at + AT_ONCE <= places[i] + 1:
            one, other, here = 0.0, 0.0, record[at : at + AT_ONCE]
            for j in range(AT_ONCE):
                one += real[j] * here[j]
                other += imag[j] * here[j]
            state = power * state + complex(one, other)
            at += AT_ONCE
        while at <= places[i]:
            state = turn * state + record[at]
            at += 1
        found[i] = state
    return found
