"""How memory that is freed finds its way back to the system, in a program that runs all day."""

from __future__ import annotations

import ctypes

TRIM_THRESHOLD, MMAP_THRESHOLD, ARENAS = -1, -3, -8  # of mallopt, malloc.h
LARGE, MOST_ARENAS = 1 << 20, 2


def give_back() -> bool:
    """Arrays of a megabyte and more are mapped by themselves, and gone when they are freed; else what worker threads
    have used stays in pieces between what is kept. False where the C library knows nothing of it."""
    try:
        mallopt = ctypes.CDLL("libc.so.6").mallopt
    except (OSError, AttributeError):
        return False
    return all(mallopt(what, value) == 1 for what, value in (
        (MMAP_THRESHOLD, LARGE), (TRIM_THRESHOLD, LARGE), (ARENAS, MOST_ARENAS)))
