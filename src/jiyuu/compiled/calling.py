"""Hands arguments over to an entry as words, and takes its results from words."""

from __future__ import annotations

import ctypes
import struct
from collections.abc import Callable, Sequence
from typing import cast

import numpy as np

from jiyuu.compiled.entry import FORM, OWNER, PLACE, SHAPE, Signature, Value

Run = Callable[..., object]
DTYPES = {kind: np.dtype(kind) for kind in FORM}
ENDED = (0, -2)  # what numba says of a function that came to its end: with something to give, and with nothing


def run_of(signature: Signature, start: int, let_go_at: int) -> Run:
    """What calls the entry that begins there; let_go_at: where the function begins that gives memory back.

    It raises MemoryError where the loop found none."""
    run = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_char_p, ctypes.c_void_p)(start)
    let_go = ctypes.CFUNCTYPE(None, ctypes.c_void_p)(let_go_at)
    packed = struct.Struct("".join(FORM[value.kind] * value.many if not value.axes else "q" * (1 + value.axes)
                                   for value in signature.arguments)).pack
    room = ctypes.c_int64 * max(signature.words, 1)
    writes = not signature.results

    def called(*arguments: object) -> object:
        words: list[float] = []
        held = []  # other arrays than those given, as long as it runs
        for value, argument in zip(signature.arguments, arguments, strict=True):
            if value.axes:
                array = cast(np.ndarray, argument)
                try:
                    words.append(_place(array, value))
                except (TypeError, ValueError, AttributeError):
                    array = _as_told(argument, value, writes)
                    held.append(array)
                    words.append(array.ctypes.data)
                words += array.shape
            elif value.many > 1:
                words += cast(tuple[int, ...], argument)
            elif value.kind == "complex128":
                words += (cast(complex, argument).real, cast(complex, argument).imag)
            else:
                words.append(cast(float, argument))
        results = cast(Sequence[int], room())
        if run(packed(*words), results) not in ENDED:
            raise MemoryError("There is not enough memory for this: close other programs, or take a shorter recording.")
        found, place = [], 0
        for value in signature.results:
            found.append(_taken(value, results, place, let_go))
            place += value.words
        return tuple(found) if signature.several else found[0] if found else None

    return called


def _place(array: np.ndarray, value: Value) -> int:
    """Where it lies: of the quick ways to ask the one that refuses what has gaps or may not be written to.

    Raises:
        ValueError, TypeError: where it does.
    """
    if array.dtype is not DTYPES[value.kind] or array.ndim != value.axes:
        raise ValueError
    return ctypes.addressof(ctypes.c_char.from_buffer(cast(bytearray, array))) if array.size else 0


def _as_told(argument: object, value: Value, is_written: bool) -> np.ndarray:
    """The array as the code reads it.

    Raises:
        TypeError: where that would be another array than the loop was to write into, or has other axes.
    """
    array = np.ascontiguousarray(cast(np.ndarray, argument), dtype=value.kind)
    if array.ndim != value.axes or (is_written and array is not argument):
        raise TypeError(f"A loop was given {argument!r} for {value.axes} axes of {value.kind} without gaps.")
    return array


def _taken(value: Value, results: Sequence[int], place: int, let_go: Callable[[int], None]) -> object:
    """A result, its memory given back."""
    if not value.axes:
        return np.frombuffer(cast(bytes, results), dtype=value.kind, count=1, offset=8 * place)[0].item()
    found = np.empty(results[place + SHAPE : place + SHAPE + value.axes], dtype=DTYPES[value.kind])
    if found.size:
        ctypes.memmove(_place(found, value), results[place + PLACE], found.nbytes)
    let_go(results[place + OWNER])
    return found
