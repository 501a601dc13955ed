"""The kernels against a C loop of the same scheme and against SciPy's DOP853."""

import ctypes
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.simulation.kernels import integrate
from jiyuu.simulation.render import render

RATE_HZ, STEPS = 192_000.0, 192_000
HALF_S = 0.5 / RATE_HZ
BATCH = 16


def best(work: Callable[[], object], rounds: int = 5) -> float:
    """Shortest of some runs, s."""
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def c_loops() -> ctypes.CDLL | None:
    """The C file compiled for this machine; None without gcc."""
    if shutil.which("gcc") is None:
        return None
    library = Path(tempfile.mkdtemp()) / "ladder.so"
    source = Path(__file__).with_name("ladder.c")
    subprocess.run(
        ["gcc", "-O3", "-march=native", "-ffast-math", "-shared", "-fPIC", str(source), "-o", str(library), "-lm"],
        check=True,
    )
    return ctypes.CDLL(str(library))


def main() -> None:
    """Audio seconds per second at four times 48 kHz, and their ratios."""
    network = circuit("transistor-ladder").network()
    t = np.arange(2 * STEPS + 1) * HALF_S
    u = 2 * np.sin(2 * np.pi * 220 * t)
    omega, gain = 2 * np.pi * 1000.0, 3.0

    def ours(count: int) -> float:
        seconds = best(lambda: integrate(
            [network] * count, u_v=u[:, None], omega=np.array([[omega]]), gain=np.array([[gain]]), half_step_s=HALF_S,
            rows=[0],
        ))
        return count * STEPS / RATE_HZ / seconds

    one, many = ours(1), ours(BATCH)
    print(f"kernel, one filter          {one:6.1f} s/s\nkernel, batch of {BATCH}         {many:6.1f} s/s")
    library = c_loops()
    if library is None:
        print("no gcc here: the C loop is left out")
    else:
        pointer = np.ctypeslib.ndpointer(dtype=np.float64, flags="C")
        size, real = ctypes.c_size_t, ctypes.c_double
        out = np.empty(STEPS * BATCH)

        def c_speed(name: str) -> float:
            function = getattr(library, name)
            function.restype = None
            if name == "ladder_lanes":
                function.argtypes = [pointer, pointer, size, size, real, real, real]
                seconds = best(lambda: function(u, out, STEPS, BATCH, omega, gain, HALF_S))
                return BATCH * STEPS / RATE_HZ / seconds
            function.argtypes = [pointer, pointer, size, real, real, real]
            return STEPS / RATE_HZ / best(lambda: function(u, out, STEPS, omega, gain, HALF_S))

        plain, rational, lanes = (c_speed(n) for n in ("ladder_scalar", "ladder_scalar_rational", "ladder_lanes"))
        print(f"C, libm tanh                {plain:6.1f} s/s   kernel/C {one / plain:5.2f}  (wanted ≥ 0.5)")
        print(f"C, written-out tanh         {rational:6.1f} s/s   kernel/C {one / rational:5.2f}")
        print(f"C, {BATCH} side by side         {lanes:6.1f} s/s   kernel/C {many / lanes:5.2f}  (wanted ≥ 0.5)")
    against_adaptive()


def against_adaptive() -> None:
    """20 ms of every circuit, ±10 V into 10 kHz: our time over DOP853's, both to their stated quality."""
    from tests.reference import integrated

    rate, length_s = 48_000.0, 0.02
    for entry in circuits().values():
        share = 0.9 * entry.onset_gain
        record = 10 * np.sin(2 * np.pi * 440 * np.arange(round(length_s * rate)) / rate)

        def ours(entry=entry, share=share, record=record) -> object:
            return render(entry.network(), record, sample_rate_hz=rate, cutoff_hz=10_000.0, gain=share,
                          modes=[entry.modes[0]])

        start = time.perf_counter()
        integrated(entry.network(), np.arange(record.size) / rate, u_v=lambda x: 10 * np.sin(2 * np.pi * 440 * x),
                   cutoff_hz=lambda x: 10_000.0, gain=lambda x, k=share: k, mode=entry.modes[0])
        reference = time.perf_counter() - start
        seconds = best(ours, 3)
        print(f"{entry.id:22} DOP853 {reference:6.2f} s, render {seconds:7.4f} s, ratio {reference / seconds:7.0f}")
