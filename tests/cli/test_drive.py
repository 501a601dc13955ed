"""'jiyuu drive', 'stimulus drive', 'measure drive'."""

import json
import math

import pytest

from tests.cli.test_patches import FIRST, WIDE, written  # noqa: F401


@pytest.mark.long
def test_what_is_predicted_is_measured_again(run, tmp_path):
    played, heard = tmp_path / "played.wav", tmp_path / "heard.wav"
    ladder = ("--levels", "-30:10:4", "--frequency", "150")
    settings = ("transistor-ladder", "--cutoff", "1k", "--resonance-gain", "1.5")
    code, out, err = run("drive", *settings, *ladder, "--json", "--level-v", "2", "--two-tone", "700,770")
    predicted = json.loads(out)
    assert (code, err) == (0, "")
    pair = ("--two-tone", "700,770", "--level-v", "2")
    assert run("stimulus", "drive", played, *ladder, *pair)[0] == 0
    assert run("render", settings[0], played, heard, *settings[1:])[0] == 0
    code, out, _ = run("measure", "drive", heard, *ladder, *pair, "--json")
    measured = json.loads(out)
    assert (code, measured["warnings"]) == (0, [])
    for one, other in zip(predicted["levels"], measured["levels"], strict=True):
        assert other["input_peak_v"] == pytest.approx(one["input_peak_v"])
        assert other["gain_db"]["value"] == pytest.approx(one["gain_db"], abs=1e-3)
        assert other["thd_percent"]["value"] == pytest.approx(
            one["thd_percent"], rel=1e-2, abs=5e-4)  # a render is good to -96 dB
        assert (len(one["harmonics_db"]), one["harmonics_db"][0], len(other["harmonics_db"])) == (20, 0.0, 20)
    for name in ("thd_1_percent_v", "thd_3_percent_v"):
        assert abs(measured[name]["value"] - predicted[name]) < measured[name]["uncertainty"]
    assert sum(one["share_percent"] for one in predicted["stages"]) == pytest.approx(
        100 - predicted["stages_remainder_percent"])
    for name, within in (("difference_2_percent", 2e-4), ("difference_3_percent", 2e-3)):
        assert measured[name]["value"] == pytest.approx(predicted[name], abs=within)  # a render is good to -96 dB
    assert measured["difference_3_percent"]["value"] > 3
    assert "products of second order" in run("drive", *settings, *ladder, *pair)[1]
    assert "Two tones, products of third order" in run("measure", "drive", heard, *ladder, *pair)[1]
    code, out, err = run("measure", "drive", heard, *ladder, "--two-tone", "2000,2100", "--json")
    assert (code, json.loads(out)["difference_2_percent"]) == (0, None)
    assert "those of the stimulus" in err


def test_a_patch_is_driven_like_a_filter(run, written, refused, tmp_path):  # noqa: F811
    file = written([{"stage": "shape", "kind": "tanh", "headroom_v": 1.0}])
    found = json.loads(run("drive", file, "--levels", "0,6.020599913", "--frequency", "100", "--json")[1])
    assert [level["thd_percent"] for level in found["levels"]] == pytest.approx([6.7065, 17.341], rel=1e-4)
    assert "stereo" in refused("drive", written([FIRST, WIDE]))


@pytest.mark.long
def test_what_rings_on_is_told_by_itself_and_beside_the_levels(run, written):  # noqa: F811
    comb = {"stage": "comb", "frequency_hz": 100.0, "feedback": 0.8}
    file = written([{"stage": "shape"}, comb])
    code, out, err = run("drive", file, "--levels=-40:20:5", "--frequency", "100", "--json")
    found = json.loads(out)
    assert (code, [*found]) == (0, ["ring"])
    assert "only the ring is told" in err.replace("\n", " ")
    assert [one["input_peak_v"] for one in found["ring"]][::7] == pytest.approx([0.01, 10.0])
    assert len(found["ring"]) == 8
    assert all(one["ring_s"] == pytest.approx(-0.03 / math.log10(0.8), rel=0.03) for one in found["ring"])
    bank = {"stage": "bank", "bands": 2, "decay_s": 0.5}
    code, out, _ = run("drive", written([{"stage": "shape"}, bank]), "--levels", "0,6", "--frequency", "100")
    assert code == 0
    assert out.count("V out") == out.count("its ring is") == 2


def test_wrong_ladders_are_refused(refused, run, tmp_path):
    for text in ("loud", "10:0:2", "3,2,1", "-200:0:1", ""):
        assert "--levels" in refused("drive", "transistor-ladder", "--levels", text)
    assert "F1,F2" in refused("drive", "transistor-ladder", "--two-tone", "900", "--levels", "0:6:3")
    assert "told apart" in refused("stimulus", "drive", tmp_path / "a.wav", "--two-tone", "900,901")
    for command in (("stimulus", "drive"), ("measure", "drive")):
        assert "give --two-tone F1,F2 with it" in refused(*command, tmp_path / "a.wav", "--level-v", "2")
    assert not (tmp_path / "a.wav").exists()
    assert "--rate" in refused("stimulus", "drive", tmp_path / "a.wav", "--rate", "100")
    code, _, err = run("stimulus", "drive", tmp_path / "a.wav", "--levels", "0:24:6")
    assert code == 0
    assert "past full scale" in err
