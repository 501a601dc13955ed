"""Patches on the command line."""

import json

import numpy as np
import pytest
import soundfile

from jiyuu.signals.recordings import read_recording, write_recording
from tests.patch.making import gain_of, patch

RATE = 48_000
FIRST = {"stage": "filter", "id": "first", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 300.0,
         "resonance_gain": 3.2}
ROUND = {"stage": "feedback", "id": "round", "amount": -0.5, "path": [FIRST]}
WIDE = {"stage": "stereo", "id": "wide", "left": [], "right": [{"stage": "gain", "db": -6}]}


@pytest.fixture
def written(tmp_path):
    def write(path, **more):
        file = tmp_path / "a.patch.json"
        file.write_text(json.dumps(patch(path, **more)), encoding="utf-8")
        return file
    return write


def test_respond_gives_the_curve_and_judges_every_loop(run, written):
    path = [{"stage": "gain", "id": "drive", "db": 6}, ROUND]
    file = written(path)
    code, out, _ = run("respond", file, "--points", "11", "--json")
    found = json.loads(out)
    hertz = np.array(found["frequency_hz"])
    assert code == 0
    assert found["magnitude_db"] == pytest.approx(20 * np.log10(np.abs(gain_of(path, hertz))), abs=1e-6)
    assert found["stable"] is True
    assert found["loops"] == [{"stage": "round", "stable": True, "rings_at_hz": pytest.approx(300.0),
                               "amount_to_ring": pytest.approx(-0.8)}]
    out = json.loads(run("respond", file, "--points", "3", "--json", "--set", "round.amount=-0.9")[1])
    assert (out["stable"], out["loops"][0]["stable"]) == (False, False)


def test_options_act_on_the_first_filter_and_set_on_any_stage(run, written, refused):
    file = written([{"stage": "gain", "id": "drive", "db": 6}, FIRST])
    code, out, _ = run("respond", file, "--points", "5", "--cutoff", "1k", "--resonance-gain", "1", "--mode",
                       "lowpass-12", "--set", "drive.db=-3", "--set", "compensation=0.5", "--drive-db", "2")
    rows = np.array([[float(v) for v in line.split(",")] for line in out.splitlines()[1:]])
    expected = gain_of([FIRST | {"cutoff_hz": 1000.0, "resonance_gain": 1.0, "mode": "lowpass-12"}], rows[:, 0])
    expected = expected * 1.5 * 10 ** (-1 / 20)
    assert code == 0
    assert out.startswith("frequency_hz,magnitude_db,phase_deg,group_delay_s\n")
    assert rows[:, 1] == pytest.approx(20 * np.log10(np.abs(expected)), abs=1e-6)
    assert "there is no stage 'nobody'" in refused("respond", file, "--set", "nobody.db=3")
    assert "drive: colour" in refused("respond", file, "--set", "drive.colour=3")
    assert "not name=value" in refused("respond", file, "--set", "drive.db")
    assert "not for a patch" in refused("respond", file, "--q", "3")


def test_a_stereo_patch_has_columns_for_both_sides(run, written, tmp_path):
    file, table = written([FIRST, WIDE]), tmp_path / "both.csv"
    assert run("respond", file, "--points", "3", "--json", "--out", table)[0] == 0
    head, first, *_ = table.read_text().splitlines()
    assert head == "frequency_hz,magnitude_left_db,phase_left_deg,magnitude_right_db,phase_right_deg"
    values = [float(v) for v in first.split(",")]
    assert values[1] - values[3] == pytest.approx(6.0)


@pytest.mark.long
def test_render_plays_a_recording_or_the_patchs_own_sources(run, written, tmp_path, refused):
    file = written([FIRST, WIDE], sources=[{"kind": "saw", "pitch_hz": 55, "level_v": 5}])
    one, other = tmp_path / "one.wav", tmp_path / "other.wav"
    assert run("render", file, "-", one, "--duration", "0.1")[0] == 0
    assert run("render", file, "-", other, "--duration", "0.1", "--block", "64")[0] == 0
    left, right = read_recording(one).channels_v
    assert left.size == 4800
    assert right == pytest.approx(left * 10 ** (-6 / 20), abs=1e-6)
    assert read_recording(other).channels_v == pytest.approx(read_recording(one).channels_v, abs=1e-8)
    played = tmp_path / "in.wav"
    write_recording(played, 0.01 * np.sin(2 * np.pi * 100 * np.arange(4800) / RATE), RATE)
    assert run("render", file, played, other)[0] == 0
    assert soundfile.info(str(other)).channels == 2
    assert "say for how long" in refused("render", file, "-", other)
    assert "--block 0" in refused("render", file, "-", other, "--duration", "1", "--block", "0")
    assert "" in refused("render", file, file, other)
    assert "no sources" in refused("render", written([FIRST]), "-", other, "--duration", "1")


def test_a_wrong_patch_is_refused_and_nothing_is_written(run, written, tmp_path, refused):
    file, out = written([FIRST | {"cutoff_hz": -1}]), tmp_path / "o.csv"
    assert "first: cutoff_hz" in refused("respond", file, "--out", out)
    assert "first: cutoff_hz" in refused("validate", file)
    assert not out.exists()
    good = written([ROUND])
    assert json.loads(run("validate", good, "--json")[1]) == {
        "valid": True, "kind": "patch", "name": "Made up", "stages": 2}


def test_controls_are_written_as_columns_and_say_how_far_they_reach(run, written, refused, tmp_path):
    file = written([FIRST], controls={"slow": {"kind": "lfo", "rate_hz": 2.0, "shape": "rise"}, "idle": {
        "kind": "constant", "value": 0.3}}, routes=[{"from": "slow", "to": "first.cutoff", "amount": 7}])
    table = tmp_path / "controls.csv"
    code, out, _ = run("controls", file, "--duration", "1", "--rate", "200", "--out", table, "--json")
    assert code == 0
    rows = np.genfromtxt(table, delimiter=",", names=True, deletechars="")
    assert rows.dtype.names == ("time_s", "first.cutoff", "slow", "idle")
    assert rows["time_s"] == pytest.approx(np.arange(200) / 200)
    slow = 2 * (2 * rows["time_s"] % 1) - 1
    assert rows["slow"] == pytest.approx(slow, abs=1e-9)
    wanted = 300 * 2 ** (7 * slow)
    assert rows["first.cutoff"] == pytest.approx(np.clip(wanted, 16, 22_000), rel=1e-9)
    (reach,) = json.loads(out)["reach"]
    assert reach == {"target": "first.cutoff", "unit": "Hz", "least": 16, "greatest": 22_000,
                     "wanted_least": pytest.approx(wanted.min()), "wanted_greatest": pytest.approx(wanted.max()),
                     "stopped_share": pytest.approx(np.mean((wanted < 16) | (wanted > 22_000)))}
    printed = run("controls", file, "--duration", "0.01", "--rate", "100")[1]
    assert printed == "time_s,first.cutoff,slow,idle\n0,16,-1,0.3\n"
    assert "no patch" in refused("controls", "transistor-ladder")
    assert "duration 0 s is out of range" in refused("controls", file, "--duration", "0")
    at = json.loads(run("respond", file, "--at", "0.25", "--points", "3", "--json")[1])
    assert at["magnitude_db"] == pytest.approx(
        20 * np.log10(np.abs(gain_of([FIRST], np.array(at["frequency_hz"])))), abs=1e-6)
    assert "--at is for a patch" in refused("respond", "transistor-ladder", "--at", "1")
