"""From the text of a kernel to functions that can be called: compiled once a machine, its code kept in a folder.

Compiling takes a fraction of a second in LLVM, which leaves the interpreter free meanwhile, and so do the functions."""

from __future__ import annotations

import atexit
import ctypes
import hashlib
import os
import shutil
import tempfile
import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from jiyuu.arrays import FloatArray
from jiyuu.simulation.kernel_source import COUNTS, TABLES

if TYPE_CHECKING:  # a tenth of what a window's first moment imports, and that hears nothing yet
    import llvmlite.binding as llvm

Run = Callable[..., None]
FORMS = ("single", "side_by_side")
MATHEMATICS, OUTSIDE = "libm.so.6", ("exp", "sin")  # the library, and what code may call in it
_ONE_AT_A_TIME = threading.Lock()
_SUM = hashlib.sha256().digest_size


@dataclass(frozen=True, slots=True, eq=False)
class Kernel:
    """Both forms of one network structure's integrator; see kernel_source for their arguments."""

    single: Run
    side_by_side: Run


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


def _place(source: str) -> Path:
    """Where the code for a text lies: another processor and another compiler make another."""
    import llvmlite

    known = "\n".join([source, *_machine(), llvmlite.__version__])
    return cache_folder() / f"{hashlib.sha256(known.encode()).hexdigest()[:24]}.o"


def kernel(source: str) -> Kernel:
    """The functions of a text; compiled where that has not been done on this machine."""
    place = _place(source)
    code = _kept(place)
    if code is None:
        code = _compiled(source)
        _keep(code, place)
    with _ONE_AT_A_TIME:
        return _linked(code, place.stem)


def _kept(place: Path) -> bytes | None:
    """The code that lies there, where it is all there: what is linked is run."""
    try:
        content = place.read_bytes()
    except OSError:
        return None
    sum_of, code = content[:_SUM], content[_SUM:]
    return code if hashlib.sha256(code).digest() == sum_of else None


def _compiled(source: str) -> bytes:
    import llvmlite.binding as llvm

    with _ONE_AT_A_TIME:
        name, features = _machine()
        machine = llvm.Target.from_default_triple().create_target_machine(cpu=name, features=features, opt=3)
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


def _linked(code: bytes, name: str) -> Kernel:
    import llvmlite.binding as llvm

    library = llvm.JITLibraryBuilder().add_object_img(code)
    mathematics = ctypes.CDLL(MATHEMATICS)
    for wanted in OUTSIDE:
        address = ctypes.cast(getattr(mathematics, wanted), ctypes.c_void_p).value
        library.import_symbol(wanted, address)
    for form in FORMS:
        library.export_symbol(form)
    tracker = library.link(_linker(), f"{name}-{len(_TRACKERS)}")
    _TRACKERS.append(tracker)
    kind = ctypes.CFUNCTYPE(None, *[ctypes.c_void_p] * len(TABLES), ctypes.c_double, *[ctypes.c_int64] * len(COUNTS))
    return Kernel(*(_run(kind(tracker[form])) for form in FORMS))


def _run(function: Callable[..., None]) -> Run:
    def run(tables: tuple[FloatArray, ...], half_step_s: float, counts: tuple[int, ...]) -> None:
        """tables, as TABLES: contiguous; counts, as COUNTS."""
        function(*(table.ctypes.data for table in tables), half_step_s, *counts)

    return run
