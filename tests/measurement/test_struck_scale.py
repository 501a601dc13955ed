"""Filters struck on the notes of a scale, against two poles written out here that miss them by known cents."""

import json
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.modulation import ModulationSetting
from jiyuu.bench.walk import step_named
from jiyuu.circuits.filter_file import Tolerances, neutral_filter
from jiyuu.cli.commands import app
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.ping import measure_pings
from jiyuu.measurement.struck_scale import scale_finding, struck_scale
from jiyuu.rig.modulation_run import run_modulation
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.signals.pings import ping_stimulus, pings_in
from jiyuu.wording.findings import sentence
from tests.measurement.test_ping import RATE, system
from tests.measurement.test_ping import stepped as stepped_exactly

NOTES = [130.8127826502993, 164.81377845643496, 195.99771799087463]  # C3 E3 G3
MISSES = [10.0, -4.0, 2.0]
Q = 15.0
TURNED = -3.0  # half way between the highest and the lowest
SHARE = np.sqrt(1 - 1 / (4 * Q**2))  # of the pole's radius at which it rings


def row(noise_v=1e-5):
    """(what is played, what rings) one pulse a note."""
    once = ping_stimulus(length_s=0.0005, level_v=1.0, every_s=1.0, count=1, sample_rate_hz=RATE)
    lead = round(0.5 * RATE)
    rang = [stepped_exactly(system("bandpass", note * 2 ** (cents / 1200) / SHARE, Q, 0.0), once, RATE)[lead:]
            for note, cents in zip(NOTES, MISSES, strict=True)]
    played = ping_stimulus(length_s=0.0005, level_v=1.0, every_s=1.0, count=3, sample_rate_hz=RATE)
    whole = np.concatenate([np.zeros(lead), *rang])
    return played, whole + np.random.default_rng(5).normal(0, noise_v, whole.size)


def test_every_note_is_missed_by_what_it_is_missed_by():
    played, rang = row()
    pings = measure_pings(rang, RATE, pings_in(played, RATE)).pings
    on = struck_scale(pings, NOTES)
    for note, cents in zip(on.notes, MISSES, strict=True):
        assert abs(note.off_cents.value - cents) <= 2 * note.off_cents.uncertainty + 0.01
        assert note.off_cents.uncertainty < 0.5
        assert note.left_cents == pytest.approx(cents + TURNED, abs=0.1)
    assert on.turn_cents == pytest.approx(TURNED, abs=0.1)
    assert on.widest.note_hz in NOTES[:2]  # both by seven
    # No other turn leaves a smaller widest miss.
    off = np.array([note.off_cents.value for note in on.notes])
    assert abs(scale_finding(on).value) <= min(np.abs(off + turn).max() for turn in np.linspace(-20, 20, 401)) + 1e-9
    with pytest.raises(MeasurementError, match="3 pulses and 2 notes"):
        struck_scale(pings, NOTES[:2])
    with pytest.raises(MeasurementError, match="Nothing rings"):
        struck_scale([ping.__class__(0.0, None, None, None, None, 1, None, None) for ping in pings], NOTES)


def test_the_command_takes_one_pulse_a_note(tmp_path):
    for name, record in zip(("played", "rang"), row(), strict=True):
        soundfile.write(tmp_path / f"{name}.wav", record / 10, RATE, "FLOAT")
    files = [str(tmp_path / "played.wav"), str(tmp_path / "rang.wav")]
    told = json.loads(CliRunner().invoke(app, ["measure", "ping", *files, "--scale", "C3 E3 G3", "--json"]).stdout)
    assert told["scale"]["turn_cents"] == pytest.approx(TURNED, abs=0.1)
    assert [note["off_cents"]["value"] for note in told["scale"]["notes"]] == pytest.approx(MISSES, abs=0.1)
    assert len(told["pings"]) == 3
    said = CliRunner().invoke(app, ["measure", "ping", *files, "--scale", "C3 5/4 3/2"]).stdout
    assert "Struck on 3 notes, with the cutoff turned by" in said
    # A pure third and fifth lie 13.7 cents under and 2 over the tempered ones.
    assert "163.52 Hz: off by 9.6" in said


def without_faults(**faults):
    none = {name: 0.0 for name in Tolerances.model_fields if name not in ("rail_v", "noise_uv")}
    document = neutral_filter("state-variable")
    return document.model_copy(update={"cutoff_hz": 200.0, "resonance_percent": 85.0,
                                       "tolerances": document.tolerances.model_copy(update={**none, **faults})})


def struck(document, scale):
    """A simulated unit struck only, on the notes of a scale: (run, cents off)."""
    standing, setting = Standing.of(document), ModulationSetting(scale=scale, strike_v=0.1)
    request = replace(step_named("modulation").request(standing, setting), whistles=False)
    *_, run = run_modulation(request, SimulatedRig(standing.filter, seed=3))
    return run.scale, np.array([note.off_cents.value for note in run.scale.notes])


@pytest.mark.long
def test_a_unit_without_faults_is_in_tune_and_a_leaning_one_is_told():
    scale = "G2 G3 D4"
    exact, off = struck(without_faults(), scale)
    assert np.abs(off).max() < 0.5
    assert scale_finding(exact).value == pytest.approx(0.0, abs=0.5)
    leaning, off = struck(without_faults(cutoff_scale_percent=2.0), scale)
    octaves = np.log2([note.note_hz for note in leaning.notes])
    line = np.polyfit(octaves, off, 1)
    assert abs(line[0]) > 2  # of 1200 to the octave: a share, which grows evenly
    assert np.abs(off - np.polyval(line, octaves)).max() < 0.5
    left = scale_finding(leaning)
    assert abs(left.value) == pytest.approx(0.5 * abs(line[0]) * np.ptp(octaves), abs=0.5)
    assert "Struck on 3 notes" in sentence(left)


def test_what_cannot_be_struck_on_a_scale_says_so():
    step, setting = step_named("modulation"), ModulationSetting(scale="C3 G3")
    dull = Standing.of(neutral_filter("transistor-ladder")).moved(resonance_percent=0.0)
    assert "its ring has no pitch" in step.refuse(dull, setting)
    assert step.refuse(dull, ModulationSetting()) is None
    with pytest.raises(CircuitError, match="'H9x'"):
        setting.changed(scale="C3 H9x")
    with pytest.raises(CircuitError, match="49 notes are more than 48"):
        setting.changed(scale="C3 " * 49)
