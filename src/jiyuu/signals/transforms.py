"""Fourier transforms of whole records. SciPy keeps what it has worked out for the last sixteen lengths, which is quick
for what comes again and eight bytes a sample of every length; for long ones NumPy's keep nothing."""

from __future__ import annotations

import numpy as np
import scipy.fft

from jiyuu.arrays import ComplexArray, FloatArray

LONG = 1 << 20  # samples


def next_fast_len(least: int) -> int:
    """The next length that is quickly transformed."""
    return int(scipy.fft.next_fast_len(least, real=True))


def rfft(record: FloatArray, size: int | None = None) -> ComplexArray:
    """(size // 2 + 1,) of a record (n,), filled up with zeros or cut off."""
    size = record.size if size is None else size
    return np.asarray(np.fft.rfft(record, size) if size > LONG else scipy.fft.rfft(record, size))


def irfft(spectrum: ComplexArray, size: int) -> FloatArray:
    """(size,) of a spectrum (size // 2 + 1,)."""
    return np.asarray(np.fft.irfft(spectrum, size) if size > LONG else scipy.fft.irfft(spectrum, size))
