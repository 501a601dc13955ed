"""Integrates networks with the compiled code that fits their structure, one filter or several side by side."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.network import Network
from jiyuu.simulation.kernel_code import Kernel, Run, kernel
from jiyuu.simulation.kernel_source import LANES, kernel_source, layout_of, signature
from jiyuu.stopping import checkpoint

AT_A_STRETCH = 200_000  # steps of all lanes together between two looks at whether it is still wanted


@lru_cache(maxsize=256)
def _kernel(source: str) -> Kernel:
    return kernel(source)


_SOURCES: dict[str, str] = {}


def _source(network: Network) -> str:
    key = signature(network)
    if key not in _SOURCES:
        _SOURCES[key] = kernel_source(network)
    return _SOURCES[key]


def kernel_for(network: Network) -> Kernel:
    """The integrator that serves this network; compiled on first use on this machine."""
    return _kernel(_source(network))


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
    """An array as the code reads it, which is one that may be written to and has no gaps."""
    return np.require(values, dtype=float, requirements=["C", "W"])


def _each(control: FloatArray, count: int) -> FloatArray:
    """(count, …) for each named control; what is given without names is for all of them."""
    return control if control.ndim == 3 else np.broadcast_to(control, (count, *control.shape))


class Stepper:
    """One network with some of its outputs, stepped again and again: what `integrate` makes ready at every call is made
    ready once."""

    def __init__(self, network: Network, rows: Sequence[int], half_step_s: float) -> None:
        self._run, self._half_step_s, self._rows = kernel_for(network).single, half_step_s, len(rows)
        self._table = coefficients_of(network)[np.newaxis, :]
        self._weights = _weights(network, rows)
        self._cutoffs, self._gains = len(network.cutoffs), len(network.gains)
        self.states = np.zeros((1, len(network.capacitors)))

    def step(self, u_v: FloatArray, omega: FloatArray, gain: FloatArray) -> FloatArray:
        """(rows, steps) from u_v (2·steps + 1,) volts, omega and gain (2·steps + 1 or 1,) at every half step, for all
        controls of that kind alike, or (controls, …) for each."""
        outputs = np.empty((self._rows, (u_v.size - 1) // 2, 1))
        controls = [_plain(np.broadcast_to(one[..., np.newaxis], (count, one.shape[-1], 1)))
                    for one, count in ((omega, self._cutoffs), (gain, self._gains))]
        _go(self._run, 1, self._table, self.states, _plain(u_v)[:, np.newaxis], controls, self._half_step_s,
            outputs, self._weights)
        return outputs[:, :, 0]


def _weights(network: Network, rows: Sequence[int]) -> list[FloatArray]:
    """What outputs are made of."""
    return [_plain(matrix.parts[:, list(rows)]) for matrix in (network.C, network.D, network.E)]


def _go(
    run: Run, groups: int, table: FloatArray, states: FloatArray, u_v: FloatArray, controls: Sequence[FloatArray],
    half_step_s: float, outputs: FloatArray, weights: Sequence[FloatArray],
) -> None:
    omega, gain = controls
    counts = (groups, outputs.shape[1], outputs.shape[0], u_v.shape[1] > 1, omega.shape[1] > 1, omega.shape[2] > 1,
              gain.shape[1] > 1, gain.shape[2] > 1)
    run((table, states, u_v, omega, gain, outputs, *weights), half_step_s, counts)


def _in_groups(values: FloatArray, width: int) -> FloatArray:
    """(lanes, k) so that the lanes of a group stand beside each other: (groups, k, width)."""
    return _plain(values.reshape(-1, width, values.shape[1]).transpose(0, 2, 1))


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
    code = kernel_for(networks[0])
    n = len(networks[0].capacitors)
    start = np.zeros((count, n)) if states is None else states
    # A batch short of a full set of lanes is filled up with copies of its last filter.
    lanes = count if count < 3 else -(-count // LANES) * LANES
    fill = np.minimum(np.arange(lanes), count - 1)
    unique = {key: coefficients_of(network) for key, network in {id(one): one for one in networks}.items()}
    table = np.array([unique[id(networks[i])] for i in fill])
    if fixed_by is not None:
        table[:, layout_of(networks[0]).fixed_rates] *= fixed_by[fill, np.newaxis]
    width = 1 if lanes < LANES else LANES
    run = code.single if width == 1 else code.side_by_side
    table, moving = _in_groups(table, width), _in_groups(start[fill], width)
    first, index = networks[0], list(rows)
    u_v = u_v[:, fill] if u_v.shape[1] > 1 else u_v
    controls = [a[..., fill] if a.shape[-1] > 1 else a
                for a in (_each(omega, len(first.cutoffs)), _each(gain, len(first.gains)))]
    weights = _weights(first, index)
    stretch = max(AT_A_STRETCH // lanes, 1)
    outputs = []
    for begin in range(0, max(steps, 1), stretch):
        checkpoint()
        end = min(begin + stretch, steps)
        part = [_plain(a[:, 2 * begin : 2 * end + 1] if a.shape[1] > 1 else a) for a in controls]
        outputs.append(np.empty((len(index), end - begin, lanes)))
        _go(run, lanes // width, table, moving, _plain(u_v[2 * begin : 2 * end + 1]), part, half_step_s, outputs[-1],
            weights)
    last = moving.transpose(0, 2, 1).reshape(lanes, n)
    return (outputs[0] if len(outputs) == 1 else np.concatenate(outputs, axis=1))[:, :, :count], last[:count]
