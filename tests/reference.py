"""An independent integrator: SciPy's DOP853 on the matrices of a network, nothing shared with the kernels.

What it found is kept under a digest of everything it was given, since it takes seconds; anything else is integrated.

    JIYUU_KEEP_REFERENCES=1 python -m pytest -n 0 tests/simulation/test_render.py      keeps what is new
"""

import hashlib
import os
from collections.abc import Callable
from functools import cache, lru_cache
from pathlib import Path

import numpy as np
from numpy.fft import irfft, rfft, rfftfreq
from scipy.integrate import solve_ivp

from jiyuu.circuits.network import BranchKind, Network

SHAPES = {
    BranchKind.LINEAR: lambda v, h: v,
    BranchKind.TANH: lambda v, h: h * np.tanh(v / h),
    BranchKind.ASINH: lambda v, h: h * np.arcsinh(v / h),
    BranchKind.CLIP: lambda v, h: np.clip(v, -h, h),
}
Signal = Callable[[float], float]


KEPT = Path(__file__).with_name("references.npz")


def adaptive(
    network: Network, times_s: np.ndarray, *, u_v: Signal, cutoff_hz: Signal, gain: Signal, mode: str,
    start_v: np.ndarray | None = None, rtol: float = 1e-10,
) -> np.ndarray:
    """Output of a mode at times_s (n,), from rest or start_v. Kept ones are good to a part in 10⁷: −130 dB."""
    given = [network, times_s, mode, start_v, rtol,
             *(np.array([signal(t) for t in times_s]) for signal in (u_v, cutoff_hz, gain))]
    key = hashlib.sha256(b"".join(_bytes(value) for value in given)).hexdigest()[:24]
    if key not in _kept():
        _kept()[key] = integrated(network, times_s, u_v=u_v, cutoff_hz=cutoff_hz, gain=gain, mode=mode,
                                  start_v=start_v, rtol=rtol)
        if os.environ.get("JIYUU_KEEP_REFERENCES"):
            np.savez_compressed(KEPT, **{name: values.astype(np.float32) for name, values in _kept().items()})
    return _kept()[key].astype(float)


@cache
def _kept() -> dict[str, np.ndarray]:
    return dict(np.load(KEPT)) if KEPT.exists() else {}


def _bytes(value: object) -> bytes:
    """Of arrays to nine places, so that the last bits of another machine's sine make no difference."""
    if isinstance(value, np.ndarray):
        return np.round(value, 9).tobytes() if value.dtype.kind == "f" else value.tobytes()
    if isinstance(value, Network):
        return _bytes(_equations(value))
    if isinstance(value, list | tuple):
        return b"".join(_bytes(one) for one in value)
    return repr(value).encode()


def _equations(network: Network) -> list[object]:
    """What a network does, however it is written down."""
    gains = [np.zeros(len(network.gains)), *np.eye(len(network.gains))]
    matrices = [getattr(network, name).at(gain) + 0.0 for name in ("V", "U", "Z", "C", "D", "E") for gain in gains]
    branches = [(branch.kind.value, branch.headroom_v, branch.offset_v) for branch in network.branches]
    rates = [network.rates(hertz) for hertz in np.eye(len(network.cutoffs))]
    return [network.outputs, *branches, *matrices, network.W + 0.0, *rates, network.cutoff_by + 0.0,
            network.gain_by + 0.0]


def integrated(
    network: Network, times_s: np.ndarray, *, u_v: Signal, cutoff_hz: Signal, gain: Signal, mode: str,
    start_v: np.ndarray | None = None, rtol: float = 1e-10,
) -> np.ndarray:
    """As adaptive, integrated now."""
    kinds = [SHAPES[branch.kind] for branch in network.branches]
    heads = [(branch.headroom_v, branch.offset_v) for branch in network.branches]
    row = network.output_index(mode)
    # Often nothing moves: then the matrices and rates of the moment before still hold.
    at = lru_cache(maxsize=1)(lambda k: (network.V.at(k), network.U.at(k), network.Z.at(k)))
    rates_at = lru_cache(maxsize=1)(network.rates)
    bends, moves = bool(network.gain_by.any()), bool(network.cutoff_by.any())

    def branches(state: np.ndarray, u: float, k: float) -> np.ndarray:
        V, U, Z = at(_key(k))
        into = V @ state + U * u
        out = np.zeros(len(kinds))
        for j, (kind, (headroom_v, offset_v)) in enumerate(zip(kinds, heads, strict=True)):
            out[j] = kind(into[j] + Z[j, :j] @ out[:j] + offset_v, headroom_v)
        return out

    def gain_in_force(t: float, state: np.ndarray) -> float:
        return max(gain(t) + float(network.gain_by[0] @ state), 0.0) if bends else gain(t)

    def slope(t: float, state: np.ndarray) -> np.ndarray:
        rates = rates_at(_key(cutoff_hz(t)))
        if moves:
            rates = rates * np.exp2(network.cutoff_by @ state)
        return rates * (network.W @ branches(state, u_v(t), gain_in_force(t, state)))

    start = np.zeros(len(network.capacitors)) if start_v is None else start_v
    solution = solve_ivp(
        slope, (0.0, float(times_s[-1])), start, method="DOP853", rtol=rtol, atol=1e-12, t_eval=times_s, max_step=2e-5
    )
    output = np.empty(times_s.size)
    for i, (t, state) in enumerate(zip(times_s, solution.y.T, strict=True)):
        k, u = gain_in_force(t, state), u_v(t)
        output[i] = (
            network.C.at(k)[row] @ state + network.D.at(k)[row] * u + network.E.at(k)[row] @ branches(state, u, k)
        )
    return output


def _key(value: float | np.ndarray) -> float | tuple[float, ...]:
    return value if isinstance(value, float) else tuple(value)


def residual_db(found: np.ndarray, true_fine: np.ndarray, *, rate_hz: float, below_hz: float = 18_000.0) -> float:
    """RMS of the difference re RMS of the truth, both below a frequency, without the first and last 5 ms.

    true_fine stands at a whole multiple of the rate, so that what lies above half the rate does not fold into it."""
    length_s = found.size / rate_hz
    kept = rfftfreq(found.size, 1 / rate_hz) <= below_hz
    edge = round(0.005 * rate_hz)

    def banded(signal: np.ndarray) -> np.ndarray:
        # Faded at both ends, or the seam of the transform would ring through the record.
        share = np.minimum(np.arange(signal.size), np.arange(signal.size)[::-1]) / signal.size / (0.005 / length_s)
        x = np.clip(share, 0, 1)
        spectrum = rfft(signal * x**4 * (35 - 84 * x + 70 * x**2 - 20 * x**3))[: kept.size] * (found.size / signal.size)
        return irfft(spectrum * kept, found.size)[edge:-edge]

    whole = banded(true_fine)
    difference = banded(found) - whole
    return float(20 * np.log10(np.sqrt(np.mean(difference**2)) / np.sqrt(np.mean(whole**2))))
