"""The Response step on a rig: play the sweep, measure each mode, read the curve, fit the circuit."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import complex_gain
from jiyuu.circuits.network import Network
from jiyuu.measurement.findings import ReadResponse, read_response
from jiyuu.measurement.loopback import less_interface
from jiyuu.measurement.response import MeasuredResponse, measure_response
from jiyuu.prediction.circuit_fit import CircuitFit, fit_circuit
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings, Rig
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.stopping import side_by_side

LEAST_V = 0.01  # softer ones drown in a unit's own noise
SMALL_SIGNAL_V = 0.05  # a twentieth of the usual stage headroom: at a peak of +8 dB it compresses by under 0.1 dB


@dataclass(frozen=True, slots=True)
class ResponseRequest:
    """Everything a run needs, frozen when it is asked for. network and gain: the drawing fitted to the curve."""

    panel: PanelSettings
    network: Network
    gain: float
    modes: tuple[str, ...]
    plan: SweepPlan | None = None  # so soft that the resonance does not compress, when not given
    sweep_s: float = 5.0  # where no plan is given


@dataclass(frozen=True, slots=True, eq=False)
class ResponseRun:
    """One measured mode: the raw record, the curve, what it says and the circuit that explains it. level_v: peak of the
    stimulus."""

    mode: str
    level_v: float
    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    response: MeasuredResponse
    read: ReadResponse
    fit: CircuitFit | None


def soft_level_v(request: ResponseRequest) -> float:
    """Inside a loop a signal is as much louder as the peak stands over the rest of the curve, and what a soft stage
    takes off it grows again by the loop: so much softer is played."""
    hertz = request.panel.cutoff_hz * 2.0 ** np.linspace(-4, 2, 193)
    first = request.network.outputs[:1]
    now, none = (np.abs(complex_gain(request.network, hertz, cutoff_hz=request.panel.cutoff_hz, gain=gain, modes=first))
                 for gain in (request.gain, 0.0))
    # Re three octaves and more under the cutoff where the first output passes them.
    passes = none[0, 0] > 1e-3 and now[0, 0] > 0
    share = (now / now[0, 0]) / np.maximum(none / none[0, 0], 1e-9) if passes else now / np.maximum(none, 1e-9)
    return float(max(SMALL_SIGNAL_V / max(float(share.max()), 1.0), LEAST_V))


def run_response(request: ResponseRequest, rig: Rig) -> Iterator[Progress | ResponseRun]:
    """Yields progress and, for every mode asked for, a ResponseRun."""
    yield Progress("Playing the sweep", 0.02)
    plan = request.plan or SweepPlan(level_v=soft_level_v(request), sweep_s=request.sweep_s)
    stimulus_v = sweep_stimulus(plan, sample_rate_hz=rig.sample_rate_hz)
    recordings_v = rig.play(stimulus_v, request.panel, request.modes)
    rate = rig.sample_rate_hz

    def measured(job: tuple[str, FloatArray]) -> ResponseRun:
        mode, recording_v = job
        return evaluate(request, mode, stimulus_v, recording_v, rate)

    # Two at a time: nearly all of it is transforms, which leave the interpreter free.
    runs = side_by_side(measured, zip(request.modes, recordings_v, strict=True))
    for i, mode in enumerate(request.modes):
        yield Progress(f"Measuring {mode}", 0.4 + 0.6 * i / len(request.modes))
        yield next(runs)


def evaluate(
    request: ResponseRequest, mode: str, stimulus_v: FloatArray, recording_v: FloatArray, sample_rate_hz: float, *,
    interface_v: FloatArray | None = None,
) -> ResponseRun:
    """Measure a record that is there already, from a rig or from files. interface_v: the same stimulus recorded without
    the unit, to be divided out. Raises MeasurementError with what to do."""
    response = measure_response(stimulus_v, recording_v, sample_rate_hz)
    if interface_v is not None:
        response = less_interface(response, measure_response(stimulus_v, interface_v, sample_rate_hz))
    read = read_response(response)
    fit = fit_circuit(response, request.network, mode, cutoff_hz=request.panel.cutoff_hz, gain=request.gain)
    level_v = float(np.abs(stimulus_v).max())
    return ResponseRun(mode, level_v, stimulus_v, recording_v, sample_rate_hz, response, read, fit)
