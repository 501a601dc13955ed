"""Fourier transforms. Vectorised ones, twice as quick as SciPy's for records of seconds, and they keep little of what
they have worked out for a length."""

from __future__ import annotations

from typing import TypeVar

import ducc0.fft as ducc
import numpy as np
from numpy.typing import ArrayLike, NDArray

from jiyuu.arrays import ComplexArray, FloatArray

Kind = TypeVar("Kind", bound=np.inexact)
BY_LENGTH = 2  # how ducc0 calls the norm that makes forth and back the same again


def next_fast_len(least: int, *, real: bool = True) -> int:
    """The next length that is quickly transformed."""
    return int(ducc.good_size(least, real))


def rfft(record: ArrayLike, size: int | None = None, *, axis: int = -1) -> ComplexArray:
    """(…, size // 2 + 1) of records (…, n), filled up with zeros or cut off."""
    values = _floats(record)
    return np.asarray(ducc.r2c(_of_size(values, values.shape[axis] if size is None else size, axis), axes=[axis]))


def irfft(spectrum: ArrayLike, size: int | None = None, *, axis: int = -1) -> FloatArray:
    """(…, size) of spectra (…, size // 2 + 1); an even size when not given."""
    values = _complex(spectrum)
    size = 2 * (values.shape[axis] - 1) if size is None else size
    whole = _of_size(values, size // 2 + 1, axis)
    return np.asarray(ducc.c2r(whole, axes=[axis], lastsize=size, forward=False, inorm=BY_LENGTH))


def fft(values: ArrayLike, size: int | None = None, *, axis: int = -1) -> ComplexArray:
    """(…, size) of (…, n), filled up with zeros or cut off."""
    given = _complex(values)
    return np.asarray(ducc.c2c(_of_size(given, given.shape[axis] if size is None else size, axis), axes=[axis]))


def ifft(spectrum: ArrayLike, *, axis: int = -1) -> ComplexArray:
    """Undoes fft."""
    return np.asarray(ducc.c2c(_complex(spectrum), axes=[axis], forward=False, inorm=BY_LENGTH))


def convolved(first: ArrayLike, second: ArrayLike) -> FloatArray:
    """(n + m - 1,) two records (n,) and (m,), each laid on every sample of the other."""
    one, other = np.asarray(first), np.asarray(second)
    count = one.size + other.size - 1
    size = next_fast_len(count)
    return irfft(rfft(one, size) * rfft(other, size), size)[:count]


def _floats(values: ArrayLike) -> NDArray[np.floating]:
    """As they are where they are floats, else as such."""
    given = np.asarray(values)
    return given if given.dtype in (np.float64, np.float32) else given.astype(np.float64)


def _complex(values: ArrayLike) -> NDArray[np.complexfloating]:
    given = np.asarray(values)
    return given if given.dtype in (np.complex128, np.complex64) else given.astype(
        np.complex64 if given.dtype == np.float32 else np.complex128)


def _of_size(values: NDArray[Kind], size: int, axis: int) -> NDArray[Kind]:
    """Cut off, or filled up with zeros, along one axis."""
    held = values.shape[axis]
    if held == size:
        return values
    kept = (slice(None),) * (axis % values.ndim) + (slice(min(size, held)),)
    if held > size:
        return values[kept]
    shape = list(values.shape)
    shape[axis] = size
    filled = np.zeros(shape, values.dtype)
    filled[kept] = values
    return filled
