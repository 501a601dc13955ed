"""Tracking on the simulated rig: counted tones against the unit's hidden truth, trims that turn, sweeps, drift."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.bench.steps.tracking import readings_of
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.trims import Trims
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import MeasurementError
from jiyuu.quantities import C4_HZ, volts_of
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.rig.tracking_request import SWEPT_FROM_HZ, SWEPT_VOLTS, TrackingRequest, whistle_percent
from jiyuu.rig.tracking_run import TrackingRun, possible_request, run_tracking
from tests.benching import found, run_of
from tests.trials import some


def tracked(asked, seed, **changes) -> TrackingRun:
    document, request = asked
    return list(run_tracking(replace(request, **changes), SimulatedRig(document, seed=seed)))[-1]


def asked(circuit="transistor-ladder", **how):
    """A filter and what it is asked."""
    document = neutral_filter(circuit)
    if how.pop("wide", False):
        tolerances = document.tolerances.model_copy(update={"droop_cents": 15.0, "leak_cents": 6.0})
        document = document.model_copy(update={"tolerances": tolerances})
    return document, TrackingRequest(document.chosen_mode, whistle_percent(document), **how)


@pytest.mark.parametrize("circuit", some(["transistor-ladder", "ota-cascade", "state-variable", "diode-ladder"], 2))
def test_errors_are_those_of_the_hidden_converter(circuit):
    document, request = asked(circuit, wide=True)
    run, drawn = tracked((document, request), 5), draw_unit(document, 5).drawn
    octaves = drawn.converter.octaves(volts_of(request.start_hz) + run.tracking.readings.volts)
    truth = 1200 * (octaves - octaves[0] - run.tracking.readings.volts)
    # The unit drifts by a fraction of a cent a minute meanwhile.
    assert run.tracking.error_cents == pytest.approx(truth, abs=0.05)
    assert run.tracking.readings.volts.tolist() == list(range(9))


@pytest.mark.parametrize("seed", some(range(6), 1, long=3))
def test_converter_found_and_span_grown_after_one_round(seed):
    voice = asked("ota-cascade" if seed % 2 else "state-variable", wide=True)
    before, drawn = tracked(voice, seed), draw_unit(voice[0], seed).drawn
    fit = before.advice.fit
    assert fit.scale_error.value == pytest.approx(drawn.converter.scale_error, abs=2e-4)
    droop = drawn.converter.droop * 1200 / np.log(2) * 1e4 / C4_HZ
    leak = 1200 * np.log2(1 + drawn.converter.leak * C4_HZ / 20)
    assert fit.droop_cents.value == pytest.approx(droop, rel=0.1, abs=0.05)
    assert fit.leak_cents.value == pytest.approx(leak, rel=0.1, abs=0.05)
    after = tracked(voice, seed, trims=before.advice.turned(Trims()))
    was, now = (run.tracking.usable.octaves if run.tracking.usable else 0.0 for run in (before, after))
    assert now > was or was > 7.9


@pytest.mark.long
def test_turning_again_and_again_comes_to_rest():
    voice = asked(wide=True, target_hz=33.0)
    trims, worst = Trims(), []
    for _ in range(3):
        run = tracked(voice, 2, trims=trims)
        worst.append(run.tracking.worst_cents)
        trims = run.advice.turned(trims)
    assert worst[2] <= worst[1] + 0.2 < worst[0]
    assert tracked(voice, 2, trims=trims).tracking.readings.frequency_hz[0] == pytest.approx(33.0, rel=2e-4)


def test_resonance_trim_moves_the_loop_gain_and_temperature_the_pitch():
    voice = asked()
    drawn = draw_unit(voice[0], 3).drawn
    assert drawn.at(Trims(resonance=5.0), 25.0).gain_factor == pytest.approx(
        drawn.gain_factor * (1 + 0.1 * drawn.trim_factors[3]))
    cold, warm = (tracked(voice, 3, temperature_c=t, volts=(0.0, 1.0, 2.0)) for t in (15.0, 35.0))
    moved = 1200 * np.log2(warm.tracking.readings.frequency_hz / cold.tracking.readings.frequency_hz)
    assert moved == pytest.approx(20 * drawn.temperature_cents_per_c, abs=0.05)


@pytest.mark.long
def test_a_filter_that_does_not_whistle_is_tracked_by_sweeps():
    document, request = asked(by_sweeps=True, volts=SWEPT_VOLTS, start_hz=SWEPT_FROM_HZ)
    run, drawn = tracked((document, request), 4, resonance_percent=0.0), draw_unit(document, 4).drawn
    volts = run.tracking.readings.volts
    octaves = drawn.converter.octaves(volts_of(request.start_hz) + volts)
    truth = 1200 * (octaves - octaves[0] - (volts - volts[0]))
    assert volts.size >= 6
    assert run.tracking.error_cents == pytest.approx(truth, abs=1.2)  # sweeps of a second
    with pytest.raises(MeasurementError, match="does not whistle"):
        tracked(asked(), 4, resonance_percent=20.0)


@pytest.mark.long
def test_a_build_that_does_not_whistle_although_its_drawing_does():
    document, request = asked("state-variable", trims=Trims(resonance=-10.0))
    rig = SimulatedRig(document, seed=2)
    swept = possible_request(request, rig)
    assert swept.by_sweeps
    assert swept.trims == request.trims
    *_, run = run_tracking(swept, rig)
    assert run.tracking.readings.volts.size >= 6
    voice, wanted = asked()
    assert possible_request(wanted, SimulatedRig(voice, seed=5)).by_sweeps is False


@pytest.mark.long
def test_drift_of_a_held_tone():
    document = neutral_filter("transistor-ladder")
    document = document.model_copy(update={"tolerances": document.tolerances.model_copy(
        update={"drift_cents_per_min": 30.0})})
    request = TrackingRequest(document.chosen_mode, 100.0, start_hz=220.0, volts=(0.0, 1.0, 2.0), hold_s=6.0)
    drawn = draw_unit(document, 8).drawn
    held = tracked((document, request), 8).held
    assert held.rate.value == pytest.approx(drawn.drift_cents_per_min, rel=0.02, abs=0.05)


def test_a_table_is_kept_and_read_again():
    document, _ = asked()
    run = run_of("tracking", document, seed=1)
    again = readings_of(run.table("tracking"))
    assert again.frequency_hz.size == 9
    assert again.uncertainty_cents == pytest.approx(run.table("tracking")["uncertainty_cents"])
    assert set(found(run)) >= {"tracking_error_cents", "usable_span_v", "scale_v_per_octave", "scale_turn",
                               "tone_flatness_db"}
