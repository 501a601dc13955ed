"""'character' and 'compare' as scripts call them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from jiyuu.character.scales import SCALES
from jiyuu.cli.entry import main
from jiyuu.patch.reading import read_patch
from jiyuu.signals.recordings import write_recording

LADDER = ["transistor-ladder", "--cutoff", "800", "--resonance-gain", "3"]


def out(capsys: pytest.CaptureFixture[str], *arguments: str) -> dict:
    assert main([*arguments, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def refused(capsys: pytest.CaptureFixture[str], *arguments: str) -> str:
    assert main([*arguments]) == 2
    said = capsys.readouterr()
    assert said.out == ""
    assert said.err.startswith("jiyuu: ")
    assert said.err.count("\n") == 1
    return said.err


@pytest.mark.long
def test_character_states_every_descriptor_with_its_sentence(capsys: pytest.CaptureFixture[str]) -> None:
    found = out(capsys, "character", *LADDER, "--source", "saw", "--pitch", "A1", "--level-v", "2")
    assert [one["name"] for one in found["descriptors"]] == [scale.name for scale in SCALES]
    assert found["pitch_hz"] == pytest.approx(55.0)
    assert found["level_v"] == 2.0
    for one in found["descriptors"]:
        assert {"name", "value", "unit", "uncertainty", "jnd", "sentence"} <= {*one}
        assert one["value"] is not None
        assert one["uncertainty"] > 0
        assert one["sentence"].endswith(".")
    whistling = out(capsys, "character", "transistor-ladder", "--resonance-gain", "4.4")
    by_name = {one["name"]: one for one in whistling["descriptors"]}
    assert by_name["peak"]["value"] is None
    assert "whistles" in by_name["peak"]["sentence"]
    assert by_name["whistle_share"]["value"] > 0


@pytest.mark.long
def test_compare_takes_files_and_says_why(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    paths = []
    for name, parameters in (("first", {}), ("second", {"compensation": 0.5})):
        paths.append(tmp_path / f"{name}.filter.json")
        paths[-1].write_text(json.dumps({
            "format": "jiyuu-filter", "version": 1, "name": name, "circuit": "transistor-ladder",
            "parameters": parameters, "resonance_percent": 40, "cutoff_hz": 500 if name == "first" else 700}))
    found = out(capsys, "compare", *map(str, paths), "--why")
    assert found["cutoff_hz"] == [500, 500]
    assert found["same"] == "pole"
    assert found["loudness"] == "equal"
    by_name = {one["name"]: one for one in found["quantities"]}
    kept = by_name["bass_kept"]
    assert kept["difference"] == pytest.approx(kept["values"][1] - kept["values"][0])
    assert kept["verdict"] == "heard"
    shares = {one["cause"]: one["share"] for one in found["why"] if one["quantity"] == "bass_kept"}
    assert shares["compensation"] == pytest.approx(kept["difference"], rel=1e-6)
    assert len(shares) == 8
    assert found["explained"] == pytest.approx(1.0, abs=1e-3)
    assert found["cutoffs_by"]["knob"] == [500, 700]
    knob = out(capsys, "compare", *map(str, paths), "--same", "knob", "--loudness", "as-is")
    assert knob["cutoff_hz"] == [500, 700]


def test_three_are_compared_with_the_first(capsys: pytest.CaptureFixture[str]) -> None:
    found = out(capsys, "compare", "transistor-ladder", "ota-cascade", "diode-ladder", "--cutoff", "600",
                "--resonance-gain", "2")
    assert all(len(one["values"]) == 3 == len(one["differences"]) for one in found["quantities"])
    assert refused(capsys, "compare", "transistor-ladder", "ota-cascade", "diode-ladder", "--why")


def test_what_cannot_be_compared_is_refused(capsys: pytest.CaptureFixture[str]) -> None:
    assert "at least two" in refused(capsys, "compare", "transistor-ladder")
    assert "pole, 3db" in refused(capsys, "compare", "transistor-ladder", "ota-cascade", "--same", "ear")
    assert "as-is" in refused(capsys, "compare", "transistor-ladder", "ota-cascade", "--loudness", "loud")
    assert "no peak" in refused(capsys, "compare", "transistor-ladder", "state-variable", "--same", "peak")
    assert "stand still" in refused(capsys, "character", "transistor-ladder", "--source", "wash")
    assert "20 Hz to 10 kHz" in refused(capsys, "character", "transistor-ladder", "--pitch", "19k")


@pytest.mark.long
def test_a_build_is_measured_instead_of_its_drawing(run, refused):
    code, out, _ = run("character", "sallen-key-lowpass", "--seed", "3", "--json")
    found = json.loads(out)
    assert code == 0
    assert found["measured"] is True
    measured = {one["name"]: one for one in found["descriptors"]}
    _, out, _ = run("character", "sallen-key-lowpass", "--json")
    drawn = json.loads(out)
    assert drawn["measured"] is False
    for one in drawn["descriptors"]:
        other = measured[one["name"]]
        assert (other["unit"], other["jnd_source"]) == (one["unit"], one["jnd_source"])
        if one["name"] in ("brightness", "sharpness", "edge", "snap"):
            assert 0 < abs(other["value"] - one["value"]) < 0.15 * abs(one["value"])
            assert 0 < other["uncertainty"] < 0.1 * abs(one["value"])
    assert "Resonance" in measured["evenness"]["sentence"]
    assert "--seed" in refused("character", "sallen-key-lowpass", "--seed", "-3")
    assert "measured with" in refused("character", "sallen-key-lowpass", "--seed", "1", "--source", "pink")


def test_masking_names_the_cut_and_writes_it_as_a_patch(run, refused, tmp_path):
    t = np.arange(14_400) / 48_000
    wanted, other = tmp_path / "bell.wav", tmp_path / "rush.wav"
    write_recording(wanted, 0.3 * np.sin(2 * np.pi * 1000 * t), 48_000)
    rush = np.random.default_rng(5).standard_normal(t.size)
    lines = np.fft.rfft(rush) * (np.abs(np.fft.rfftfreq(t.size, 1 / 48_000) - 1100) < 300)
    write_recording(other, 30 * np.fft.irfft(lines, t.size), 48_000, full_scale_v=100.0)
    out = tmp_path / "cut.patch.json"
    code, text, _ = run("masking", wanted, other, "--out", out, "--json")
    found = json.loads(text)
    assert code == 0
    assert len(found["bands"]) == 24
    assert 900 < found["cut"]["frequency_hz"] < 1200
    gained = [band["gained_sone"] for band in found["bands"]]
    assert found["bands"][int(np.argmax(gained))]["frequency_hz"] == found["cut"]["frequency_hz"]
    assert found["hidden_percent"] == pytest.approx(100 * (1 - found["audible_sone"] / found["alone_sone"]))
    assert found["sentence"].startswith("Rush.wav hides ")
    code, text, _ = run("respond", out, "--json")
    level = read_patch(out)[0].path[0].bands[0]
    assert (level.frequency_hz, level.gain_db) == (found["cut"]["frequency_hz"], found["cut"]["gain_db"])
    write_recording(other, np.sin(t), 44_100)
    assert "one rate" in refused("masking", wanted, other)
    assert "is being read" in refused("masking", wanted, wanted, "--out", wanted)
