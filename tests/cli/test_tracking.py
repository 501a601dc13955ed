"""'measure tracking' and 'stimulus steps' from the command line."""

import json

import numpy as np
import pytest

from jiyuu.circuits.control import Converter
from jiyuu.quantities import C4_HZ
from jiyuu.signals.recordings import read_recording, write_recording
from tests.cli.test_commands import RATE
from tests.staircase import Staircase

VOLTS = "0,1,2,3,4,5,6,7,8"


def bent(scale_error=0.004, droop_cents=6.0, leak_cents=1.0, volts=tuple(range(9)), base_v=-3.0):
    """Hertz of a converter with known faults."""
    converter = Converter(scale_error, droop_cents * np.log(2) / 1200 * C4_HZ / 1e4, 0.0,
                          (2 ** (leak_cents / 1200) - 1) * 20 / C4_HZ)
    return C4_HZ * 2 ** converter.octaves(np.array(volts, dtype=float) + base_v)


@pytest.fixture
def staircase(tmp_path):
    def make(frequency_hz, **how):
        path = tmp_path / "steps.wav"
        write_recording(path, Staircase(list(frequency_hz), **how).recording(), RATE)
        return path

    return make


def test_a_table_with_its_judgement(run, staircase):
    hertz = bent()
    code, out, err = run("measure", "tracking", staircase(hertz, glide_s=0.02, clicks=10), "--volts", VOLTS, "--json")
    assert code == 0, err
    found = json.loads(out)
    wanted = 1200 * np.log2(hertz / hertz[0]) - 1200 * np.arange(9)
    assert [step["volts"] for step in found["steps"]] == list(range(9))
    assert [step["error_cents"] for step in found["steps"]] == pytest.approx(wanted.tolist(), abs=0.3)
    slope = np.polyfit(np.arange(9), np.log2(hertz), 1)[0]
    assert found["scale_v_per_octave"] == pytest.approx(1 / slope, abs=0.0003)
    assert found["converter"]["scale_error_percent"]["value"] == pytest.approx(0.4, abs=0.01)
    assert found["converter"]["droop_cents_at_10_khz"]["value"] == pytest.approx(6.0, abs=0.3)
    assert found["usable_span_v"] == 1.0
    assert found["usable_octaves"] == pytest.approx(1.004, abs=0.001)
    assert found["missing_volts"] == []
    directions = {turn["trim"]: turn["direction"] for turn in found["trims"]}
    assert directions == {"hf": "up", "scale": "down"}
    assert found["usable_after_advice_span_v"] == 8.0
    assert any("Scale trim down" in line for line in found["advice"])


def test_the_reference_and_the_pitch_meant_can_be_chosen(run, staircase, tmp_path):
    hertz = 110.0 * 2 ** (np.arange(5) * 1.002) * 2 ** (20 / 1200)
    path = staircase(hertz)
    code, out, err = run("measure", "tracking", path, "--volts", "0:4:1", "--reference-v", "2", "--zero-hz", "110",
                         "--out", tmp_path / "table.csv", "--json")
    assert code == 0, err
    found = json.loads(out)
    errors = [step["error_cents"] for step in found["steps"]]
    assert errors == pytest.approx([-4.8, -2.4, 0, 2.4, 4.8], abs=0.1)
    assert found["usable_span_v"] == 4.0
    assert found["offset_cents"] == pytest.approx(20.0, abs=0.2)
    offset = next(turn for turn in found["trims"] if turn["trim"] == "offset")
    assert offset["amount"] == pytest.approx(-20.0, abs=0.3)  # after the scale trim, which leaves 0 V where it is
    rows = (tmp_path / "table.csv").read_text().splitlines()
    assert rows[0].startswith("volts,frequency_hz")
    assert len(rows) == 6


def test_a_step_left_out_is_named_when_its_place_is_certain(run, staircase):
    hertz = bent()
    code, out, _ = run("measure", "tracking", staircase([*hertz[:4], *hertz[5:]]), "--volts", VOLTS, "--json")
    found = json.loads(out)
    assert code == 0
    assert found["missing_volts"] == [4.0]
    assert [step["volts"] for step in found["steps"]] == [0, 1, 2, 3, 5, 6, 7, 8]


@pytest.mark.parametrize(("steps", "volts", "words"), [
    ([0, 1, 2, 3, 4, 5, 6, 7], VOLTS, "8 steps were found, but 9 volts given"),
    ([0, 1, 2, 3, 4, 5, 6, 7, 8], "0,1,2,3,4,5,6,7", "9 steps were found, but 8 volts given"),
    ([0, 1, 2, 4, 5, 6, 7, 8, 8.9], VOLTS, "one step is too many and another missing"),
    ([0, 1, 2], "0,1,x", "not numbers"), ([0, 1, 2], "2:0:1", "leads nowhere"), ([0, 1, 2], "1", "two steps"),
    ([0, 1, 2], "1,1,1", "same volts"), ([0, 1, 2], "0:9e9:1", "at most 1000"), ([0, 1, 2], "0:1:0", "leads nowhere"),
    ([0, 1, 2], "", "not numbers"), ([2, 1, 0], "0,1,2", "does not rise"),
])
def test_what_cannot_be_is_refused(run, refused, staircase, steps, volts, words):
    path = staircase(bent(volts=steps), step_s=0.5)
    assert words in refused("measure", "tracking", path, f"--volts={volts}", "--json")


@pytest.mark.parametrize("record", [np.zeros(RATE), 0.1 * np.random.default_rng(3).standard_normal(2 * RATE)])
def test_no_tones_no_table(run, refused, tmp_path, record):
    write_recording(tmp_path / "nothing.wav", record, RATE)
    said = refused("measure", "tracking", tmp_path / "nothing.wav", "--volts", "0,1,2")
    assert ("tone" if record.any() else "silent") in said


@pytest.mark.long
def test_key_follow_from_notes_played_in_any_scale(run, refused, staircase):
    notes = {"C3": 130.8128, "E3": 164.8138, "G3": 195.9977, "C4": 261.6256, "A4": 440.0}
    path = staircase([900 * (hz / C4_HZ) ** 0.5 for hz in notes.values()])
    code, out, err = run("measure", "tracking", path, "--notes", ",".join(notes), "--json")
    assert code == 0, err
    assert json.loads(out)["key_follow_percent"] == pytest.approx(50.0, abs=0.01)
    just = [130.0, 162.5, 195.0, 260.0, 433.3]  # a scale of one's own, in hertz
    path = staircase([2 * hz for hz in just])
    code, out, _ = run("measure", "tracking", path, "--notes", ",".join(f"{hz:g}" for hz in just), "--json")
    assert json.loads(out)["key_follow_percent"] == pytest.approx(100.0, abs=0.01)
    code, out, _ = run("measure", "tracking", path, "--notes", "130 5/4 3/2 1200c 2084.4c", "--json")
    assert json.loads(out)["key_follow_percent"] == pytest.approx(100.0, abs=0.01)
    for wrong in ("C3,99999999c", "C3,0/5", "C3,5/0"):
        assert "no step of a scale" in refused("measure", "tracking", path, "--notes", wrong)
    assert refused("measure", "tracking", path, "--notes", "1e400,C3")
    assert "a step over nothing" in refused("measure", "tracking", path, "--notes", "1/1,5/4")
    assert "either --volts" in refused("measure", "tracking", path)
    assert "either --volts" in refused("measure", "tracking", path, "--volts", "0,1", "--notes", "C3,C4")
    assert "not a frequency" in refused("measure", "tracking", path, "--notes", "C3,5 dB")


def test_steps_as_a_stimulus_and_read_back_as_text(run, refused, tmp_path, staircase):
    code, _, err = run("stimulus", "steps", tmp_path / "cv.wav", "--volts", "0:3:1", "--seconds", "0.5")
    assert code == 0
    assert "never into a loudspeaker" in err
    volts = read_recording(tmp_path / "cv.wav").loudest_v
    assert volts.size == 4 * RATE // 2
    assert volts.reshape(4, -1).mean(axis=1) == pytest.approx([0, 1, 2, 3], abs=1e-5)
    assert "--level-v 11" in refused("stimulus", "steps", tmp_path / "x.wav", "--volts", "0,11")
    code, out, _ = run("measure", "tracking", staircase(bent(), step_s=0.5), "--volts", VOLTS)
    assert code == 0
    assert "An octave takes 0.99" in out
    assert out.count("!") == 7
