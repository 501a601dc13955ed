"""Loops over samples and frequencies, written as Python and run as machine code.

numba compiles each of them once a machine, and what it makes of it is kept: another process links that in a hundredth
of a second, where numba takes a second and 80 MB before it runs its first."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Iterator
from functools import cache, cached_property
from pathlib import Path
from types import FunctionType
from typing import TYPE_CHECKING, ParamSpec, Protocol, TypeVar, cast

from jiyuu.compiled.calling import Run, run_of
from jiyuu.compiled.entry import GIVEN, MEMORY, Signature, Value, entry, signature_of
from jiyuu.compiled.kept_code import OUTSIDE, code_of, linked, place_of

if TYPE_CHECKING:
    from numba.core.types import Type
    from numba.core.typing.templates import Signature as NumbaSignature

P = ParamSpec("P")
R = TypeVar("R")
LETS_GO = "NRT_decref"  # of a block of memory: with the last who used it the block goes
LETS_NOTHING_GO = f"\ndefine void @{LETS_GO}(ptr %block) {{\n  ret void\n}}\n"
_READY = threading.RLock()


def loop(*fastmath: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Marks a function as a loop, whose annotations say what it takes and gives. fastmath: what LLVM may do that moves
    the last digits. A quotient by zero is infinite or no number."""

    def marked(python: Callable[P, R]) -> Callable[P, R]:
        return cast(Callable[P, R], Loop(cast(FunctionType, python), fastmath))

    return marked


class Compiler(Protocol):
    """What numba has of a function."""

    @property
    def _numba_type_(self) -> Type: ...

    def __call__(self, *arguments: object) -> object: ...

    def compile(self, signature: NumbaSignature) -> object: ...

    def inspect_llvm(self, arguments: tuple[Type, ...]) -> str: ...


class CannotStandAlone(Exception):
    """A loop calls what no code of ours is given."""


class Loop:
    """A function that is machine code from its first call on."""

    def __init__(self, python: FunctionType, fastmath: tuple[str, ...]) -> None:
        self.python, self._fastmath = python, fastmath
        self.__name__, self.__doc__ = python.__name__, python.__doc__

    def __call__(self, *arguments: object) -> object:
        return self.run(*arguments)

    @cached_property
    def run(self) -> Run:
        """What is called: what was kept, or numba where that cannot stand alone."""
        with _READY:
            try:
                return self.kept()
            except CannotStandAlone:
                return self._by_numba()

    @cached_property
    def signature(self) -> Signature:
        """What it takes and gives."""
        return signature_of(self.python)

    def kept(self) -> Run:
        """By the code that is kept, made where there is none yet.

        Raises:
            CannotStandAlone: where it calls what no code of ours is given.
        """
        from importlib.metadata import version  # 20 modules that a window which hears nothing needs not

        place = place_of(*_compiled_into(self.python), self.__name__, repr(self.signature), *self._fastmath,
                         MEMORY, entry(self.signature, self.__name__), version("numba"))
        code = code_of(place, self._text, finished=True)
        try:
            start, let_go = linked(code, place.stem, ("entry", LETS_GO))
        except RuntimeError as reason:  # another processor's code asks for helpers of its own
            raise CannotStandAlone from reason
        return run_of(self.signature, start, let_go)

    @cached_property
    def compiler(self) -> Compiler:
        """What numba has of it, for other loops and not for Python."""
        return self._by_numba(no_cpython_wrapper=True, no_cfunc_wrapper=True)

    def _by_numba(self, **options: bool) -> Compiler:
        from numba import njit

        marked = cast(Callable[..., Callable[[FunctionType], Compiler]], njit)
        return marked(nogil=True, error_model="numpy", fastmath=set(self._fastmath), **options)(self.python)

    @property
    def _numba_type_(self) -> Type:
        """By this numba knows a loop that another one calls."""
        return self.compiler._numba_type_

    def _text(self) -> str:
        """What numba's passes have made of it, in LLVM's assembly, with its entry and the memory it asks for."""
        from numba.core import config

        if getattr(config, "DISABLE_JIT", 0):
            raise CannotStandAlone
        wanted = _for_numba(self.signature)
        self.compiler.compile(wanted)
        text = self.compiler.inspect_llvm(wanted.args)
        asked = set(re.findall(r"^declare [^@]*@([\w.$]+)\(", text, re.MULTILINE))
        given = {*GIVEN, *(symbol for symbols in OUTSIDE.values() for symbol in symbols)}
        if any(symbol not in given and not symbol.startswith("llvm.") for symbol in asked):
            raise CannotStandAlone
        function = re.search(r"^define (?!linkonce)[^@]*@([\w.$]+)\(", text, re.MULTILINE)
        assert function is not None
        # What is declared there is defined here.
        text = re.sub(rf"^declare [^@]*@({'|'.join((*GIVEN, 'malloc', 'free'))})\(.*$", "", text, flags=re.MULTILINE)
        if f"@{LETS_GO}(" not in text:
            text += LETS_NOTHING_GO
        return text + MEMORY + entry(self.signature, function[1])


@cache
def _written(file: str) -> str:
    return Path(file).read_text()


def _compiled_into(python: FunctionType) -> Iterator[str]:
    """Its own text, that of the loops which it may call and of those which they may, and the numbers beside it."""
    beside = python.__globals__
    yield from map(_written, sorted(_files_of(python, frozenset())))
    yield repr(sorted((name, value) for name, value in beside.items() if isinstance(value, int | float)))


def _files_of(python: FunctionType, known: frozenset[str]) -> frozenset[str]:
    """With those that are known already."""
    file = python.__code__.co_filename
    if file in known:
        return known
    known |= {file}
    for one in python.__globals__.values():
        if isinstance(one, Loop):
            known = _files_of(one.python, known)
    return known


def _for_numba(signature: Signature) -> NumbaSignature:
    from numba import types

    def kind(value: Value) -> Type:
        number = getattr(types, value.kind)
        if value.axes:
            return types.Array(number, value.axes, "C")
        return types.UniTuple(number, value.many) if value.many > 1 else number

    results = [kind(value) for value in signature.results]
    given = types.Tuple(results) if signature.several else results[0] if results else types.none
    return given(*(kind(value) for value in signature.arguments))
