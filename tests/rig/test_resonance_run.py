"""Resonance and levels measured on simulated units, against what the units really are."""

import numpy as np
import pytest

from jiyuu.book.setup import Setup
from jiyuu.book.store import Book
from jiyuu.book.walk import StepState, step_state
from jiyuu.book.whole_walk import MEASURED, missing_steps, walk_on
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.linear import complex_gain, level_db, onset
from jiyuu.circuits.trims import Trims
from jiyuu.errors import JiyuuError, MeasurementError
from jiyuu.measurement.wording import sentence
from jiyuu.rig.level_run import LevelRequest, run_levels
from jiyuu.rig.resonance_run import ResonanceRequest, run_resonance
from jiyuu.rig.response_run import Progress
from jiyuu.rig.simulated import SimulatedRig, draw_unit
from jiyuu.signals.source import Source, SourceKind

VOICE = Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=700.0)


@pytest.mark.parametrize(("circuit_id", "mode", "seed"), [
    ("transistor-ladder", "lowpass-24", 2), ("state-variable", "bandpass", 1),
    ("sallen-key-highpass", "highpass-12", 3),
])
def test_a_run_finds_body_peak_and_the_hidden_onset(circuit_id, mode, seed):
    document = VOICE.model_copy(update={"circuit": circuit_id})
    positions = (0.0, 10.0, 20.0, 40.0, 60.0, 80.0, 100.0)
    *progress, run = run_resonance(ResonanceRequest(document, 700.0, mode, positions),
                                   SimulatedRig(document, seed=seed), resonance_percent=60.0)
    assert all(isinstance(step, Progress) for step in progress)
    unit = draw_unit(document, seed)
    cutoff_hz = unit.cutoff_hz(700.0)
    true_onset = document.percent_at(onset(unit.network, cutoff_hz=cutoff_hz).gain / unit.gain_factor)
    assert run.onset_percent == pytest.approx(true_onset, abs=0.5)
    assert abs(run.onset_percent - true_onset) < run.onset_uncertainty
    gains = document.gains_at(run.curves.position_percent) * unit.gain_factor
    for i in (0, 2, 4):
        exact = level_db(complex_gain(unit.network, run.frequency_hz, cutoff_hz=cutoff_hz, gain=gains[i],
                                      modes=[mode]) * unit.level)[0]
        loud = exact > exact.max() - 15  # a sweep of 20 mV over 60 µV of noise
        assert np.sqrt(np.mean((run.level_db[i] - exact)[loud] ** 2)) < 0.05
    assert run.taper is None
    assert "at most 5 %" in run.why_no_taper
    assert all(sentence(finding) for finding in run.findings)


def test_a_unit_that_never_whistles_has_no_onset():
    tame = VOICE.model_copy(update={"full_gain": 3.0})
    *_, run = run_resonance(ResonanceRequest(tame, 700.0, "lowpass-24", (0.0, 50.0, 100.0)),
                            SimulatedRig(tame, seed=1), resonance_percent=50.0)
    assert run.onset_percent is None
    assert run.curves.position_percent.size == 3


def test_a_unit_that_whistles_at_once_is_refused():
    wild = VOICE.model_copy(update={"full_gain": 400.0})
    with pytest.raises(MeasurementError, match="resonance trim"):
        list(run_resonance(ResonanceRequest(wild, 700.0, "lowpass-24", (0.0, 50.0, 100.0)),
                           SimulatedRig(wild, seed=1), resonance_percent=0.0))


@pytest.mark.parametrize(("level_v", "verdict"), [(1.0, "in tolerance"), (20.0, "out of tolerance")])
def test_levels_of_a_source_through_a_unit(level_v, verdict):
    exact = VOICE.model_copy(update={
        "circuit": "state-variable", "parameters": {"stage_headroom_v": 10.0}, "cutoff_hz": 8000.0,
        "tolerances": Tolerances(gain_db=0.0, offset_mv=0.0),
    })
    request = LevelRequest(exact, 8000.0, 0.0, "lowpass", (Source(SourceKind.SINE, 100.0, level_v),))
    *_, run = run_levels(request, SimulatedRig(exact, seed=1))
    assert run.findings[0].verdict == verdict
    if level_v == 1.0:
        assert run.levels.peak_v == pytest.approx(1.0, rel=0.01)
    else:
        assert run.levels.peak_v <= 10.6 * 1.01  # the rails, and what the converter's filter adds at their corners


def test_the_walk_does_what_is_missing_and_only_that(tmp_path):
    book = Book.create(tmp_path / "walk.jiyuu")
    document = VOICE.model_copy(update={"circuit": "sallen-key-lowpass"})
    row = book.add_filter("A", document, seed=1)
    settings = {"cutoff_hz": 700.0, "resonance_percent": 30.0, "mode": "lowpass-12", "parameters": {}}

    def walked(until=None):
        for step in walk_on(book, row, document, settings, Setup(), SimulatedRig(document, seed=1), source="rig"):
            if until is not None and step.text.startswith(until):
                return

    walked(until="Resonance")
    assert missing_steps(book, row, settings) == ("Resonance", "Self-oscillation", "Tracking")
    walked()
    assert missing_steps(book, row, settings) == ()
    assert [len(book.runs(row, step)) for step in MEASURED] == [1, 1, 1, 1, 1]
    assert step_state(book, row, "Resonance", {**settings, "resonance_percent": 80.0}) is StepState.DONE
    # Tracking stands on volts of its own, wherever the cutoff knob is.
    assert missing_steps(book, row, {**settings, "cutoff_hz": 800.0}) == MEASURED[:4]
    turned = {**settings, "trims": Trims(scale=1.0).as_json()}
    assert missing_steps(book, row, turned) == MEASURED
    book.close()


def test_a_step_that_cannot_be_measured_does_not_stop_the_others(tmp_path):
    book = Book.create(tmp_path / "walk.jiyuu")
    document = VOICE.model_copy(update={"circuit": "sallen-key-lowpass", "full_gain": 400.0})
    row = book.add_filter("A", document, seed=1)
    settings = {"cutoff_hz": 700.0, "resonance_percent": 0.0, "mode": "lowpass-12", "parameters": {}}
    with pytest.raises(JiyuuError, match="Resonance: The filter whistles"):
        list(walk_on(book, row, document, settings, Setup(), SimulatedRig(document, seed=1), source="rig"))
    assert missing_steps(book, row, settings) == ("Resonance", "Self-oscillation")
    assert np.isfinite(book.findings_of_run(book.runs(row, "Setup")[0].id)[0].finding.value)
    book.close()
