"""Tracking on many recordings and units: are the steps found and read, does one round of advice help?"""

import time

import numpy as np

from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.trims import Trims
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import JiyuuError
from jiyuu.measurement.staircase import measure_staircase
from jiyuu.quantities import C4_HZ
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.rig.tracking_request import TrackingRequest, whistle_percent
from jiyuu.rig.tracking_run import possible_request, run_tracking
from tests.staircase import drawn_staircase

RECORDINGS, UNITS = 300, 100


def main(recordings: int = RECORDINGS, units: int = UNITS) -> None:
    """Errors of the steps in cents; what units have hidden against what was found; usable span before and after."""
    _recordings(recordings)
    for circuit_id in ("transistor-ladder", "ota-cascade", "state-variable"):
        _units(circuit_id, units)


def _recordings(count: int) -> None:
    worst, refused, spent = [], 0, 0.0
    for seed in range(count):
        staircase, volts = drawn_staircase(seed)
        record = staircase.recording()
        start = time.perf_counter()
        try:
            found = measure_staircase(record, staircase.rate, volts)
        except JiyuuError:
            refused += 1
            continue
        finally:
            spent += time.perf_counter() - start
        worst.append(float(np.abs(staircase.errors_cents(found)).max()))
    held = np.array(worst)
    print(f"{count} recordings: {refused} refused, {np.mean(held < 0.3) * 100:.1f} % within 0.3 cents at every step, "
          f"median of the worst {np.median(held):.3f}, largest {held.max():.2f}; {1e3 * spent / count:.0f} ms each")


def _units(circuit_id: str, count: int) -> None:
    document = neutral_filter(circuit_id)
    document = document.model_copy(update={"tolerances": document.tolerances.model_copy(
        update={"droop_cents": 20.0, "leak_cents": 8.0})})
    grown = whole = shrunk = silent = 0
    errors = []
    for seed in range(count):
        request = TrackingRequest(document.chosen_mode, whistle_percent(document) or 100.0)
        rig = SimulatedRig(document, seed=seed)
        if possible_request(request, rig).by_sweeps:
            silent += 1  # this build does not whistle
            continue
        *_, before = run_tracking(request, rig)
        turned = TrackingRequest(request.mode, request.resonance_percent,
                                 trims=before.advice.turned(Trims()))
        *_, after = run_tracking(turned, rig)
        was, now = (0.0 if run.tracking.usable is None else run.tracking.usable.octaves for run in (before, after))
        grown += now > was + 0.01
        whole += was > 7.9
        shrunk += now < was - 0.1
        truth, fit = draw_unit(document, seed).drawn.converter, before.advice.fit
        droop, leak = truth.droop * 1200 / np.log(2) * 1e4 / C4_HZ, 1200 * np.log2(1 + truth.leak * C4_HZ / 20)
        errors.append((abs(fit.scale_error.value - truth.scale_error) * 100, abs(fit.droop_cents.value / droop - 1),
                       abs(fit.leak_cents.value / leak - 1)))
    scale, droop_off, leak_off = np.array(errors).T
    print(f"{circuit_id}, {count} units: span grown in {grown}, whole from the start in {whole}, shrunk in {shrunk}, "
          f"{silent} do not whistle; "
          f"scale within {scale.max():.4f} %, droop within 10 % in {np.mean(droop_off < 0.1) * 100:.0f} %, "
          f"leakage within 10 % in {np.mean(leak_off < 0.1) * 100:.0f} %")
