"""How a compiled loop is called: what its arguments and results are, as 8-byte words.

numba gives a function results by a pointer, and takes an array apart into who owns it, sizes, place, shape and strides.
The entry written here takes one row of words, (place, shape) for an array, and makes that of it; its results stand as
numba leaves them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, TypeAlias, get_args, get_origin, get_type_hints

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray

# What a loop says it takes and gives, besides float, int, complex and tuples of these.
Row: TypeAlias = Annotated[FloatArray, 1]
Table: TypeAlias = Annotated[FloatArray, 2]
Block: TypeAlias = Annotated[FloatArray, 3]
ComplexRow: TypeAlias = Annotated[ComplexArray, 1]
ComplexTable: TypeAlias = Annotated[ComplexArray, 2]
Places: TypeAlias = Annotated[NDArray[np.int64], 1]

PLAIN = {float: "float64", int: "int64", complex: "complex128"}
WORDS = {"float64": "double", "int64": "i64", "complex128": "double"}
SIZE_OF = {"float64": 8, "int64": 8, "complex128": 16}
FORM = {"float64": "d", "int64": "q", "complex128": "dd"}  # as `struct` has it
OWNER, PLACE, SHAPE = 0, 4, 5  # words of an array among the results: who owns it, where it lies, and its shape
# What a loop asks numba's runtime for. A block begins with how many use it; its fourth word says where the data lies.
MEMORY = """
declare noalias ptr @malloc(i64)
declare void @free(ptr)

define noalias ptr @NRT_MemInfo_alloc_aligned(i64 %size, i32 %align) {
  %whole = add i64 %size, 128
  %block = call ptr @malloc(i64 %whole)
  %none = icmp eq ptr %block, null
  br i1 %none, label %done, label %there
there:
  store i64 1, ptr %block
  %at = ptrtoint ptr %block to i64
  %past = add i64 %at, 127
  %even = and i64 %past, -64
  %place = inttoptr i64 %even to ptr
  %data = getelementptr i64, ptr %block, i64 3
  store ptr %place, ptr %data
  br label %done
done:
  ret ptr %block
}

define void @NRT_MemInfo_call_dtor(ptr %block) {
  call void @free(ptr %block)
  ret void
}
"""
GIVEN = ("NRT_MemInfo_alloc_aligned", "NRT_MemInfo_call_dtor")


@dataclass(frozen=True, slots=True)
class Value:
    """An argument or a result; axes: of an array, 0 where it is none; many: how many such stand in a tuple."""

    kind: str
    axes: int = 0
    many: int = 1

    @property
    def words(self) -> int:
        """Of a result."""
        return 5 + 2 * self.axes if self.axes else SIZE_OF[self.kind] // 8


@dataclass(frozen=True, slots=True)
class Signature:
    """Of a loop; several: whether its results are a tuple."""

    arguments: tuple[Value, ...]
    results: tuple[Value, ...]
    several: bool

    @property
    def words(self) -> int:
        """Of all results."""
        return sum(value.words for value in self.results)


def signature_of(python: Callable[..., object]) -> Signature:
    """As its annotations say.

    Raises:
        TypeError: where they name what cannot be handed to a loop.
    """
    told = get_type_hints(python, include_extras=True)
    given = told.pop("return")
    several = get_origin(given) is tuple
    results = get_args(given) if several else () if given is type(None) else (given,)
    return Signature(tuple(_value(one) for one in told.values()), tuple(_value(one) for one in results), several)


def _value(told: object) -> Value:
    for kind, name in PLAIN.items():
        if told is kind:
            return Value(name)
    if get_origin(told) is tuple and len(set(get_args(told))) == 1:
        return Value(_value(get_args(told)[0]).kind, many=len(get_args(told)))
    if get_origin(told) is Annotated:
        array, axes = get_args(told)
        return Value(np.dtype(get_args(get_args(array)[1])[0]).name, axes)
    raise TypeError(f"{told} cannot be handed to a loop: say float, int, complex, or one of the arrays named here.")


def entry(signature: Signature, function: str) -> str:
    """LLVM's text of `entry(words, results)`, which calls the function of that name and gives its status."""
    lines: list[str] = []
    handed: list[str] = []
    place = 0

    def taken(kind: str) -> str:
        nonlocal place
        lines.append(f"  %at{place} = getelementptr i64, ptr %words, i64 {place}")
        lines.append(f"  %w{place} = load {kind}, ptr %at{place}")
        place += 1
        return f"%w{place - 1}"

    for number, value in enumerate(signature.arguments):
        if not value.axes:
            for _ in range(value.many * SIZE_OF[value.kind] // 8):
                handed.append(f"{WORDS[value.kind]} {taken(WORDS[value.kind])}")
            continue
        data, shape = taken("ptr"), [taken("i64") for _ in range(value.axes)]
        strides: list[str] = []
        step = str(SIZE_OF[value.kind])
        for axis in reversed(range(value.axes)):
            strides.insert(0, step)
            lines.append(f"  %s{number}.{axis} = mul i64 {step}, {shape[axis]}")
            step = f"%s{number}.{axis}"
        lines.append(f"  %n{number} = sdiv i64 {step}, {SIZE_OF[value.kind]}")
        handed += ["ptr null", "ptr null", f"i64 %n{number}", f"i64 {SIZE_OF[value.kind]}", f"ptr {data}",
                   *(f"i64 {one}" for one in (*shape, *strides))]
    return "\n".join([
        "define i32 @entry(ptr %words, ptr %results) {", "  %raised = alloca ptr", *lines,
        f"  %status = call i32 @{function}({', '.join(['ptr %results', 'ptr %raised', *handed])})",
        "  ret i32 %status", "}", ""])
