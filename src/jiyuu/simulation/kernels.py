"""Compiled integrators, one per network structure, kept on disk between runs.

The source written by kernel_source is stored in the cache folder under the hash of its text and imported from there,
so that numba can keep its machine code beside it. Compiling takes seconds and holds the interpreter's lock; a program
with a window calls `compile_apart` from a worker thread, which does it in another process.
"""

from __future__ import annotations

import atexit
import hashlib
import importlib.util
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from types import ModuleType

import numpy as np
import platformdirs

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernel_source import LANES, kernel_source, layout_of, signature
from jiyuu.stopping import checkpoint

AT_A_STRETCH = 200_000  # steps of all lanes together between two looks at whether it is still wanted


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


@dataclass(frozen=True, slots=True, eq=False)
class Kernel:
    """Both forms of one network structure's integrator; see kernel_source for their arguments."""

    single: Callable[..., None]
    side_by_side: Callable[..., None]


@lru_cache(maxsize=256)
def _kernel(key: str, source: str) -> Kernel:
    module = _imported(source)
    return Kernel(module.single, module.side_by_side)


def kernel_for(network: Network) -> Kernel:
    """The integrator that serves this network; compiled on first use on this machine."""
    return _kernel(signature(network), _source(signature(network), network))


_SOURCES: dict[str, str] = {}


def _source(key: str, network: Network) -> str:
    if key not in _SOURCES:
        _SOURCES[key] = kernel_source(network)
    return _SOURCES[key]


def _module_name(source: str) -> str:
    return "kernel_" + hashlib.sha256(source.encode()).hexdigest()[:20]


def _written(source: str) -> str:
    """Name of the module in the cache folder, which holds it afterwards."""
    name, folder = _module_name(source), cache_folder()
    path = folder / f"{name}.py"
    if not path.exists():
        handle, temporary = tempfile.mkstemp(dir=folder, suffix=".tmp")
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(source)
        os.replace(temporary, path)
    return name


def _imported(source: str) -> ModuleType:
    return _loaded(_written(source))


def _loaded(name: str) -> ModuleType:
    spec = importlib.util.spec_from_file_location(name, cache_folder() / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    return module


def compile_now(network: Network) -> None:
    """Compile (or load) both forms, with the argument types that `integrate` uses."""
    for count in (1, LANES):
        integrate(
            [network] * count, u_v=np.zeros((3, 1)), omega=np.full((1, 1), 1.0), gain=np.zeros((1, 1)),
            half_step_s=1e-6, rows=[0],
        )


def is_compiled(network: Network) -> bool:
    """Whether machine code for the network's structure lies on disk already."""
    folder = cache_folder() / "__pycache__"
    name = _module_name(_source(signature(network), network))
    return all(any(folder.glob(f"{name}.{form}-*.nbc")) for form in ("single", "side_by_side"))


def compile_apart(network: Network) -> None:
    """Compile a network's kernels in a process of their own; afterwards they load from disk."""
    source, layout = _source(signature(network), network), layout_of(network)
    _written(source)
    sizes = [str(size) for size in (layout.size, layout.capacitors, layout.branches, len(network.gains),
                                    len(network.cutoffs))]
    subprocess.run(
        [sys.executable, "-m", "jiyuu.simulation.warm", _module_name(source), *sizes], check=False,
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )


def compiled_apart(network: Network) -> None:
    """The same where it has not been done yet."""
    if not is_compiled(network):
        compile_apart(network)


def _each(control: FloatArray, count: int) -> FloatArray:
    """(count, …) for each named control; what is given without names is for all of them."""
    return control if control.ndim == 3 else np.broadcast_to(control, (count, *control.shape))


def compile_written(name: str, size: int, capacitors: int, branches: int, gains: int, cutoffs: int) -> None:
    """Compile a kernel that lies in the cache folder, for the argument types that `integrate` uses."""
    module = _loaded(name)
    for run, lanes in ((module.single, 1), (module.side_by_side, LANES)):
        weights = [np.zeros((1 + gains, *shape)) for shape in ((1, capacitors), (1,), (1, branches))]
        run(np.ones((lanes, size)), np.zeros((lanes, capacitors)), np.zeros((3, 1)), np.ones((cutoffs, 1, 1)),
            np.zeros((gains, 1, 1)), 1e-6, np.empty((1, 1, lanes)), *weights)


def coefficients_of(network: Network) -> FloatArray:
    """(size,) the network's row of the coefficient table, in the order of kernel_source.Layout."""
    layout = layout_of(network)
    values = []
    for matrix, i, j, part in layout.entries:
        if matrix in ("W", "M"):
            values.append((network.W if matrix == "W" else network.cutoff_by)[i, j])
            continue
        if matrix == "N":
            values.append(network.gain_by[i, j])
            continue
        array = {"V": network.V, "U": network.U, "Z": network.Z}[matrix].parts[part]
        values.append(array[i] if array.ndim == 1 else array[i, j])
    for branch in network.branches:
        values += [branch.offset_v, branch.headroom_v, 1 / branch.headroom_v]
    for i in range(len(network.capacitors)):
        values += [network.rate_ratio[i], network.fixed_rate[i]]
    return np.array(values, dtype=float)


def _plain(values: FloatArray) -> FloatArray:
    """An array as the code was compiled for: for one that is read-only or has gaps numba would compile it once more,
    for seconds."""
    return np.require(values, dtype=float, requirements=["C", "W"])


class Stepper:
    """One network with some of its outputs, stepped again and again: what `integrate` makes ready at every call is made
    ready once."""

    def __init__(self, network: Network, rows: Sequence[int], half_step_s: float) -> None:
        self._run, self._half_step_s, self._rows = kernel_for(network).single, half_step_s, len(rows)
        self._table = coefficients_of(network)[np.newaxis, :]
        self._weights = [_plain(matrix.parts[:, list(rows)]) for matrix in (network.C, network.D,
                                                                                          network.E)]
        self._cutoffs, self._gains = len(network.cutoffs), len(network.gains)
        self.states = np.zeros((1, len(network.capacitors)))

    def step(self, u_v: FloatArray, omega: FloatArray, gain: FloatArray) -> FloatArray:
        """(rows, steps) from u_v (2·steps + 1,) volts, omega and gain (2·steps + 1 or 1,) at every half step, for all
        controls of that kind alike, or (controls, …) for each."""
        outputs = np.empty((self._rows, (u_v.size - 1) // 2, 1))
        controls = [_plain(np.broadcast_to(one[..., np.newaxis], (count, one.shape[-1], 1)))
                    for one, count in ((omega, self._cutoffs), (gain, self._gains))]
        self._run(self._table, self.states, _plain(u_v)[:, np.newaxis], *controls, self._half_step_s,
                  outputs, *self._weights)
        return outputs[:, :, 0]


def integrate(
    networks: Sequence[Network],
    *,
    u_v: FloatArray,
    omega: FloatArray,
    gain: FloatArray,
    half_step_s: float,
    rows: Sequence[int],
    states: FloatArray | None = None,
    fixed_by: FloatArray | None = None,
) -> tuple[FloatArray, FloatArray]:
    """Integrate a batch of networks of one structure.

    u_v (2·steps + 1, B or 1) volts at every half step; omega rad/s and gain: (2·steps + 1 or 1, B or 1), for all
    controls of that kind alike, or (controls, …) for each; states (B, n) or None for rest; fixed_by (B,): what each
    one's fixed rates are multiplied by. Returns outputs (len(rows), steps, B), y at the start of every step, and the
    states (B, n) after the last one. Outputs take their coefficients from the first network."""
    count, steps = len(networks), (u_v.shape[0] - 1) // 2
    kernel = kernel_for(networks[0])
    n = len(networks[0].capacitors)
    start = np.zeros((count, n)) if states is None else states
    # A batch short of a full set of lanes is filled up with copies of its last filter.
    lanes = count if count < 3 else -(-count // LANES) * LANES
    fill = np.minimum(np.arange(lanes), count - 1)
    unique = {key: coefficients_of(network) for key, network in {id(one): one for one in networks}.items()}
    table = np.array([unique[id(networks[i])] for i in fill])
    if fixed_by is not None:
        table[:, layout_of(networks[0]).fixed_rates] *= fixed_by[fill, np.newaxis]
    moving = _plain(start[fill])
    first, index = networks[0], list(rows)
    u_v = u_v[:, fill] if u_v.shape[1] > 1 else u_v
    controls = [a[..., fill] if a.shape[-1] > 1 else a
                for a in (_each(omega, len(first.cutoffs)), _each(gain, len(first.gains)))]
    weights = [_plain(matrix.parts[:, index]) for matrix in (first.C, first.D, first.E)]
    run = kernel.single if lanes < LANES else kernel.side_by_side
    stretch = max(AT_A_STRETCH // lanes, 1)
    outputs = []
    for begin in range(0, max(steps, 1), stretch):
        checkpoint()
        end = min(begin + stretch, steps)
        part = [_plain(a[:, 2 * begin : 2 * end + 1] if a.shape[1] > 1 else a) for a in controls]
        outputs.append(np.empty((len(index), end - begin, lanes)))
        run(table, moving, _plain(u_v[2 * begin : 2 * end + 1]), *part, half_step_s, outputs[-1], *weights)
    return (outputs[0] if len(outputs) == 1 else np.concatenate(outputs, axis=1))[:, :, :count], moving[:count]
