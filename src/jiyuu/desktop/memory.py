"""How memory that is freed finds its way back to the system, in a program that runs all day."""

from __future__ import annotations

import ctypes

TRIM_THRESHOLD, MMAP_THRESHOLD, ARENAS = -1, -3, -8  # of mallopt, malloc.h
LARGE, LEFT, MOST_ARENAS = 1 << 23, 1 << 25, 2


def give_back() -> bool:
    """Arrays of eight megabytes and more are mapped by themselves, and gone when they are freed. From one megabyte on
    it would take a third more time to measure anything, since every new page has to be asked for. False where the C
    library knows nothing of it."""
    try:
        mallopt = ctypes.CDLL("libc.so.6").mallopt
    except (OSError, AttributeError):
        return False
    return all(mallopt(what, value) == 1 for what, value in (
        (MMAP_THRESHOLD, LARGE), (TRIM_THRESHOLD, LEFT), (ARENAS, MOST_ARENAS)))


def tidy() -> bool:
    """What lies free in pieces between what is kept goes back too: milliseconds, so never on the interface thread.
    False where the C library knows nothing of it."""
    try:
        trim = ctypes.CDLL("libc.so.6").malloc_trim
    except (OSError, AttributeError):
        return False
    trim(0)
    return True
