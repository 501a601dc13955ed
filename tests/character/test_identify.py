"""Which circuit recordings were made by: simulated units, sweeps at a soft and a loud level, noise 60 dB under them."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from scipy.signal import lfilter

from jiyuu.character.families import families, shapes
from jiyuu.character.family_fit import Fit, Whistle, whistle_misfit
from jiyuu.character.identify import Identified, identify
from jiyuu.character.level_curves import LevelCurve
from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.linear import complex_gain, poles
from jiyuu.cli.entry import main
from jiyuu.errors import MeasurementError
from jiyuu.measurement.response import measure_response
from jiyuu.signals.recordings import read_recording, write_recording
from jiyuu.simulation.render import render
from tests.trials import some

RATE = 48_000


@cache
def sweep() -> np.ndarray:
    """(n,) of 1 V: two equal passages, silence round them."""
    t = np.arange(round(1.3 * RATE)) / RATE
    low, high, seconds = 25.0, 20_000.0, t.size / RATE
    passage = np.sin(2 * np.pi * low * seconds / np.log(high / low) * ((high / low) ** (t / seconds) - 1))
    fade = round(0.01 * RATE)
    passage[:fade] *= np.linspace(0, 1, fade)
    passage[-fade:] *= np.linspace(1, 0, fade)
    silence = np.zeros(RATE // 2)
    return np.concatenate([silence, passage, silence, passage, silence])


def recorded(name: str, mode: str, parameters: dict[str, float], cutoff_hz: float, gain: float, level_v: float,
             seed: int) -> np.ndarray:
    found = render(circuit(name).network(parameters), level_v * sweep(), sample_rate_hz=RATE, cutoff_hz=cutoff_hz,
                   gain=gain, modes=[mode], oversampling=4).output_v[0]
    noise = np.random.default_rng(seed).normal(0, 1e-3 * np.std(found), found.size)
    return found + noise


def told(name: str, mode: str, parameters: dict[str, float], cutoff_hz: float, gain: float,
         levels: tuple[float, ...] = (0.1, 2.0)) -> Identified:
    curves = []
    for i, level in enumerate(levels):
        heard = recorded(name, mode, parameters, cutoff_hz, gain, level, i)
        curves.append(LevelCurve.of(measure_response(level * sweep(), heard, RATE, quickly=True)))
    return identify(curves)


UNITS = [
    ("transistor-ladder", "lowpass-24", {"stage_headroom_v": 1.04, "stage_1_mismatch_percent": 2.0,
                                         "stage_3_mismatch_percent": -2.5}, 740.0, 2.2),
    ("ota-cascade", "lowpass-24", {"stage_headroom_v": 0.97, "feedback_headroom_v": 1.05,
                                   "stage_2_mismatch_percent": -1.5}, 1250.0, 1.6),
    ("diode-ladder", "lowpass-24", {"stage_headroom_v": 1.06, "capacitor_ratio_2": 1.02}, 900.0, 8.0),
    ("state-variable", "lowpass", {"stage_headroom_v": 1.05, "stage_1_mismatch_percent": 3.0}, 620.0, 1.2),
    ("sallen-key-highpass", "highpass-12", {"feedback_headroom_v": 0.95, "stage_2_mismatch_percent": 2.0}, 430.0, 1.3),
]


@pytest.mark.parametrize(("name", "mode", "parameters", "cutoff_hz", "gain"), some(UNITS, 1, long=2), ids=str)
def test_a_unit_is_told_with_its_cutoff_and_its_gain(
    name: str, mode: str, parameters: dict[str, float], cutoff_hz: float, gain: float
) -> None:
    found = told(name, mode, parameters, cutoff_hz, gain)
    assert found.chosen is not None
    assert (found.chosen.family.entry.id, found.chosen.family.mode) == (name, mode)
    stages = [value / 100 for key, value in parameters.items() if key.endswith("percent")]
    stages += [parameters["capacitor_ratio_2"] - 1] if "capacitor_ratio_2" in parameters else []
    count = circuit(name).poles
    true_hz = cutoff_hz * np.exp(np.sum(np.log1p(stages)) / count)
    assert abs(1200 * np.log2(found.chosen.cutoff_hz.value / true_hz)) < 2.0
    true_gain = gain
    if count == 2:
        pair = poles(circuit(name).network(parameters), cutoff_hz=1.0, gain=gain) / (2 * np.pi)
        true_gain = 2 + pair.sum().real / np.sqrt(abs(np.prod(pair)))
    assert found.chosen.loop_gain.value == pytest.approx(true_gain, rel=0.01)
    assert sum(one.odds for one in found.candidates) == pytest.approx(1.0)
    assert found.chosen.parameters.get("stage_headroom_v") is None or name == "sallen-key-highpass" or (
        found.chosen.parameters["stage_headroom_v"].value == pytest.approx(parameters["stage_headroom_v"], rel=0.02))


@pytest.mark.long
@pytest.mark.parametrize("theirs", some([
    lambda hertz: 0.7 + 2 * np.pi * hertz * 3e-4 - 3.0 / hertz,  # polarity, latency, coupling of an interface
    lambda hertz: 2.0 * np.sin(5 * np.log(hertz)),  # nothing that belongs to these levels: left out of account
], 1))
def test_phases_of_an_interface_move_nothing(theirs: Callable[[np.ndarray], np.ndarray]) -> None:
    name, mode, parameters, cutoff_hz, gain = UNITS[-1]
    curves = []
    for i, level in enumerate((0.1, 2.0)):
        heard = recorded(name, mode, parameters, cutoff_hz, gain, level, i)
        curve = LevelCurve.of(measure_response(level * sweep(), heard, RATE, quickly=True))
        curves.append(replace(curve, phase_rad=curve.phase_rad + theirs(curve.hertz)))
    chosen = identify(curves).chosen
    assert chosen is not None
    own_hz = cutoff_hz * np.exp(np.log1p(0.02) / 2)
    assert abs(1200 * np.log2(chosen.cutoff_hz.value / own_hz)) < 0.3
    assert chosen.cutoff_hz.uncertainty < 1e-3 * own_hz


@pytest.mark.long
def test_the_coupling_of_an_interface_is_not_taken_for_the_filters() -> None:
    """A tenth of a decibel at 25 Hz would be twenty cents of a ladder of diodes, which bends slowly."""
    name, mode, parameters, cutoff_hz, gain = UNITS[2]
    curves = []
    for i, level in enumerate((0.1, 2.0)):
        heard = recorded(name, mode, parameters, cutoff_hz, gain, level, i)
        corner = 2 * np.pi * 5.0 / RATE
        coupled = lfilter([1.0, -1.0], [1.0, corner - 1.0], heard)
        curves.append(LevelCurve.of(measure_response(level * sweep(), coupled, RATE, quickly=True)))
    chosen = identify(curves).chosen
    assert chosen is not None
    assert chosen.family.entry.id == name
    assert abs(chosen.loop_gain.value / gain - 1) < 0.02
    assert abs(chosen.loop_gain.value - gain) < 1.5 * chosen.loop_gain.uncertainty + 0.005 * gain




@pytest.mark.long
def test_what_is_too_soft_to_bend_cannot_be_told_and_it_says_what_would() -> None:
    found = told("state-variable", "lowpass", {}, 700.0, 1.0, levels=(0.002,))
    assert found.chosen is None
    assert not found.none_fits
    assert {one.family.entry.id for one in found.candidates[:2]} == {"state-variable", "sallen-key-lowpass"}
    (what,) = found.to_tell
    assert what.level_v >= 0.5
    assert what.difference_db > 0.5


@pytest.mark.long
def test_what_is_no_circuit_of_the_catalogue_is_not_named() -> None:
    """A comb of a single echo."""
    heard = sweep() + 0.8 * np.roll(sweep(), 48)
    found = identify([LevelCurve.of(measure_response(sweep(), heard, RATE, quickly=True))])
    assert found.chosen is None
    assert found.none_fits


def test_every_network_stands_there_once_and_is_built_as_the_catalogue_builds_it() -> None:
    named = [(one.entry.id, one.mode) for one in families()] + [pair for one in families() for pair in one.alike]
    assert len(named) == len({*named})
    assert {name for name, _ in named} == {*circuits()} - {"lowpass-gate"}
    assert sum(len(shape) for shape in shapes()) == len(families())
    hertz = np.geomspace(30, 15_000, 40)
    for family in families():
        values = np.array([free.start for free in family.free])
        values[3:] += 0.013
        built = family.built(values)
        drawn = family.entry.network(built.parameters)
        direct = complex_gain(drawn, hertz, cutoff_hz=built.cutoff_hz, gain=built.gain, modes=[built.mode])[0]
        assert built.linear_db(hertz) == pytest.approx(20 * np.log10(np.abs(direct)) + built.level_db, abs=1e-6)


@pytest.mark.long
def test_a_whistle_speaks_for_its_own_family() -> None:
    """The ladder's whistle of its drawing, 1 V of headroom: 0.97954 of the cutoff, 0.14968 V, 0.281 % at k = 4.4."""
    heard = Whistle(979.54, 0.14968, 0.281)
    known, guessed = {}, {}
    for name in ("transistor-ladder", "ota-cascade"):
        family = next(one for one in families() if one.entry.id == name)
        start = np.array([free.start for free in family.free])
        known[name] = whistle_misfit(Fit(family, start, 0.0, 1e-4 * np.eye(start.size)), heard)
        if name == "ota-cascade":
            guessed[name] = whistle_misfit(Fit(family, start, 0.0), heard)
    assert known["transistor-ladder"] < 1.0
    assert known["ota-cascade"] > 30.0  # χ² of three numbers: one in a million
    # As loud as it is because its stages stand more: nobody knows before a loud sweep.
    louder = Whistle(979.54, 1.5 * 0.14968, 0.281)
    ladder = next(one for one in families() if one.entry.id == "transistor-ladder")
    start = np.array([free.start for free in ladder.free])
    assert whistle_misfit(Fit(ladder, start, 0.0), louder) < 1.0
    assert whistle_misfit(Fit(ladder, start, 0.0, 1e-4 * np.eye(start.size)), louder) > 20.0
    assert guessed["ota-cascade"] < known["ota-cascade"]


@pytest.mark.long
def test_the_command_takes_pairs(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    arguments = ["identify"]
    for i, level in enumerate((0.1, 2.0)):
        stimulus, recording = tmp_path / f"s{i}.wav", tmp_path / f"r{i}.wav"
        write_recording(stimulus, level * sweep(), RATE, full_scale_v=10.0)
        heard = recorded("transistor-ladder", "lowpass-24", {}, 800.0, 2.0, level, i)
        write_recording(recording, heard, RATE, full_scale_v=10.0)
        arguments += ["--pair", str(stimulus), str(recording)]
    assert read_recording(Path(arguments[2])).sample_rate_hz == RATE
    assert main([*arguments, "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["verdict"] == "transistor-ladder"
    assert sum(one["odds"] for one in found["candidates"]) == pytest.approx(1.0)
    assert found["candidates"][0]["cutoff_hz"]["value"] == pytest.approx(800.0, rel=1e-3)
    assert found["candidates"][0]["loop_gain"]["uncertainty"] > 0
    assert found["to_tell"] == []
    assert found["warnings"] == []
    for wrong, says in ((["identify"], "--pair"), (arguments[:3], "takes two files"),
                        ([*arguments[:3], str(tmp_path / "none.wav")], "does not exist")):
        assert main(wrong) == 2
        assert says in capsys.readouterr().err


def test_nothing_is_nothing() -> None:
    with pytest.raises(MeasurementError, match="no recording"):
        identify([])
