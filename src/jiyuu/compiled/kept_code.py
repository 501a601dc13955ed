"""Code for a text in LLVM's assembly: compiled once a machine, kept in a folder, linked to what it calls.

Compiling takes a fraction of a second in LLVM, which leaves the interpreter free meanwhile, and so does the code."""

from __future__ import annotations

import atexit
import ctypes
import hashlib
import os
import shutil
import tempfile
import threading
from collections.abc import Callable, Sequence
from functools import cache, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

if TYPE_CHECKING:  # a tenth of what a window's first moment imports, and that hears nothing yet
    import llvmlite.binding as llvm

# What code may call, by the library it is in.
OUTSIDE = {"libm.so.6": ("exp", "sin", "cos", "sincos", "sqrt", "hypot", "floor"),
           "libc.so.6": ("malloc", "free", "memset", "memcpy", "memmove")}
_ONE_AT_A_TIME = threading.Lock()
_SUM = hashlib.sha256().digest_size


def cache_folder() -> Path:
    """Where compiled kernels live; JIYUU_CACHE_DIR moves it. Where that cannot be written they live as long as the
    process."""
    base = os.environ.get("JIYUU_CACHE_DIR") or platformdirs.user_cache_dir("jiyuu", appauthor=False)
    return _writable(Path(base) / "kernels")


@lru_cache(maxsize=8)
def _writable(folder: Path) -> Path:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if os.access(folder, os.W_OK):
            return folder
    except OSError:
        pass
    # A folder of one's own: code that others might have put into a shared place is not run.
    own = Path(tempfile.mkdtemp(prefix="jiyuu-kernels-"))
    atexit.register(shutil.rmtree, own, ignore_errors=True)
    return own


@cache
def _machine() -> tuple[str, str]:
    """Name and features of this processor."""
    import llvmlite.binding as llvm

    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()


def place_of(*known: str) -> Path:
    """Where the code for a text lies that is told by all these: another processor and another compiler make another."""
    import llvmlite

    told = "\n".join([*known, *_machine(), llvmlite.__version__])
    return cache_folder() / f"{hashlib.sha256(told.encode()).hexdigest()[:24]}.o"


def code_of(place: Path, text: Callable[[], str], *, finished: bool = False) -> bytes:
    """What lies there, and where nothing does, compiled from the text; finished: whether that has been through LLVM's
    passes already."""
    code = _kept(place)
    if code is None:
        code = _compiled(text(), finished)
        _keep(code, place)
    return code


def _kept(place: Path) -> bytes | None:
    """The code that lies there, where it is all there: what is linked is run."""
    try:
        content = place.read_bytes()
    except OSError:
        return None
    sum_of, code = content[:_SUM], content[_SUM:]
    return code if hashlib.sha256(code).digest() == sum_of else None


def _compiled(source: str, finished: bool) -> bytes:
    import llvmlite.binding as llvm

    with _ONE_AT_A_TIME:
        name, features = _machine()
        machine = llvm.Target.from_default_triple().create_target_machine(cpu=name, features=features, opt=3)
        if finished:
            return bytes(machine.emit_object(llvm.parse_assembly(source)))
        module = llvm.parse_assembly(f'target triple = "{machine.triple}"\n' + source)
        module.data_layout = str(machine.target_data)
        tuning = llvm.create_pipeline_tuning_options(speed_level=3)
        tuning.slp_vectorization = False
        llvm.create_pass_builder(machine, tuning).getModulePassManager().run(
            module, llvm.create_pass_builder(machine, tuning))
        return bytes(machine.emit_object(module))


def _keep(code: bytes, place: Path) -> None:
    """Whole or not at all; where the disk is full the code is made again another time."""
    try:
        handle, temporary = tempfile.mkstemp(dir=place.parent, suffix=".tmp")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(hashlib.sha256(code).digest() + code)
            os.replace(temporary, place)
        except OSError:
            os.unlink(temporary)
    except OSError:
        pass


@cache
def _linker() -> llvm.LLJIT:
    import llvmlite.binding as llvm

    _machine()
    return llvm.create_lljit_compiler()


_TRACKERS: list[llvm.ResourceTracker] = []  # code is let go of with its tracker


def linked(code: bytes, name: str, wanted: Sequence[str]) -> tuple[int, ...]:
    """Where the functions wanted of it begin."""
    import llvmlite.binding as llvm

    with _ONE_AT_A_TIME:
        library = llvm.JITLibraryBuilder().add_object_img(code)
        for symbol, address in _outside().items():
            library.import_symbol(symbol, address)
        for symbol in wanted:
            library.export_symbol(symbol)
        tracker = library.link(_linker(), f"{name}-{len(_TRACKERS)}")
        _TRACKERS.append(tracker)
        return tuple(tracker[symbol] for symbol in wanted)


@cache
def _outside() -> dict[str, int]:
    libraries = ((ctypes.CDLL(library), symbols) for library, symbols in OUTSIDE.items())
    return {symbol: ctypes.cast(getattr(library, symbol), ctypes.c_void_p).value or 0
            for library, symbols in libraries for symbol in symbols}
