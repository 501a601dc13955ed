"""Levels, curves of other instruments, noise and tones from the command line."""

import json

import numpy as np
import pytest

from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.linear import complex_gain
from jiyuu.signals.recordings import read_recording, write_recording
from tests.cli.test_commands import RATE


def sine(volts, hz=440.0, seconds=1.0):
    return volts * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


def test_levels_of_one_recording(run, tmp_path):
    write_recording(tmp_path / "a.wav", sine(8.0), RATE)
    code, out, _ = run("measure", "levels", tmp_path / "a.wav", "--limit-v", "4", "--json")
    found = json.loads(out)
    assert code == 0
    assert found["peak_v"] == pytest.approx(8.0, rel=0.01)
    assert found["trim_db"] == pytest.approx(-6.02, abs=0.1)
    assert found["crest_db"] == pytest.approx(3.01, abs=0.1)
    assert "taper" not in found
    code, out, _ = run("measure", "levels", tmp_path / "a.wav")
    assert "V peak" in out
    assert "4.1 dB over" in out


def test_levels_over_a_control(run, tmp_path):
    """Volts that double every 25 %: overloaded from 50 + 25·log2(5/4) % on."""
    files = []
    for i, volts in enumerate((1, 2, 4, 8, 16)):
        files.append(tmp_path / f"{i}.wav")
        write_recording(files[-1], sine(volts), RATE)
    code, out, _ = run("measure", "levels", *files, "--positions", "0,25,50,75,100", "--json")
    found = json.loads(out)
    assert code == 0
    assert found["overload_from_percent"] == pytest.approx(58.05, abs=0.3)
    assert found["trim_db"] == pytest.approx(-10.1, abs=0.1)
    change = [one["output_change_db"] for one in found["recordings"]]
    assert change == pytest.approx([0, 6.02, 12.04, 18.06, 24.08], abs=0.05)
    assert found["taper"] is None


def test_evenness_needs_positions_enough(run, tmp_path):
    files, positions = [], np.linspace(0, 100, 21)
    for i, percent in enumerate(positions):
        files.append(tmp_path / f"{i:02}.wav")
        write_recording(files[-1], sine(10 ** ((max(percent - 40, 0) / 10 - 6) / 20), seconds=0.5), RATE)
    code, out, _ = run("measure", "levels", *files, "--positions", ",".join(f"{p:g}" for p in positions), "--json")
    taper = json.loads(out)["taper"]
    assert code == 0
    assert taper["evenness"] == pytest.approx(1 / 6, abs=0.01)
    assert taper["dead_percent"] == pytest.approx(40, abs=1)


@pytest.mark.parametrize(("arguments", "words"), [
    (("--positions", "0,50"), "names 2"), (("--positions", "high"), "not numbers"), (("--limit-v", "0"), "above 0 V"),
    (("--positions", "120"), "within 0 to 100"),
])
def test_levels_refuses_what_makes_no_sense(refused, tmp_path, arguments, words):
    write_recording(tmp_path / "a.wav", sine(1.0), RATE)
    assert words in refused("measure", "levels", tmp_path / "a.wav", *arguments)


def curve(tmp_path, separator=",", point=".", count=400):
    hz = np.geomspace(20, 20_000, count)
    gain = complex_gain(circuit("state-variable").network(), hz, cutoff_hz=1000.0, gain=1.5, modes=["lowpass"])[0]
    lines = ["Freq;Mag;Phase" if separator == ";" else "Frequency (Hz), Level (dB), Phase"]
    rows = zip(hz, 20 * np.log10(np.abs(gain)), np.degrees(np.angle(gain)), strict=True)
    lines += [separator.join(f"{v:.6f}".replace(".", point) for v in row) for row in rows]
    path = tmp_path / "curve.csv"
    path.write_text("\n".join(lines) + "\n")
    return path


@pytest.mark.parametrize(("separator", "point"), [(",", "."), (";", ","), ("\t", ".")])
def test_a_curve_of_another_instrument_is_read(run, tmp_path, separator, point):
    code, out, _ = run("measure", "response", curve(tmp_path, separator, point), "--json")
    found = json.loads(out)
    assert code == 0
    assert found["kind"] == "lowpass"
    assert found["peak_hz"]["value"] == pytest.approx(1000 * np.sqrt(1 - 0.125), rel=2e-3)
    assert found["peak_db"]["value"] == pytest.approx(20 * np.log10(2 / np.sqrt(1 - 1 / 16)), abs=0.02)
    assert found["slope_db_per_octave"]["value"] == pytest.approx(-12.4, abs=0.3)
    assert found["latency_s"] is None


@pytest.mark.parametrize(("text", "words"), [
    ("a,b\n1,2\n", "at least 24"), ("\n".join(f"{100 + i},0" for i in range(30)), "less than an octave"),
    ("\n".join(f"{100 * 2 ** (i // 2)},0" for i in range(30)), "twice"),
    ("\n".join("nan,1" for _ in range(30)), "finite"),
    ("\n".join(str(i) for i in range(1, 40)), "a frequency in Hz and a level"),
])
def test_curves_that_cannot_be_read(refused, tmp_path, text, words):
    path = tmp_path / "bad.csv"
    path.write_text(text)
    assert words in refused("measure", "response", path)


def test_a_stimulus_without_its_recording_is_refused(refused, tmp_path):
    write_recording(tmp_path / "a.wav", sine(1.0), RATE)
    assert "give the recording too" in refused("measure", "response", tmp_path / "a.wav")
    assert "read alone" in refused("measure", "response", curve(tmp_path), tmp_path / "a.wav")


@pytest.mark.parametrize("kind", ["noise", "tones"])
def test_noise_and_tones_go_out_and_come_back(run, tmp_path, kind):
    stimulus = tmp_path / f"{kind}.wav"
    more = ("--seconds", "2") if kind == "noise" else ("--per-octave", "6")
    code, _, err = run("stimulus", kind, stimulus, *more)
    assert code == 0
    assert "keep the level low" in err
    record = read_recording(stimulus).channels_v[0]
    padded = np.concatenate([np.zeros(500), record, np.zeros(RATE // 2)])
    write_recording(tmp_path / "back.wav", -0.5 * padded, RATE)
    code, out, _ = run("measure", "response", stimulus, tmp_path / "back.wav", "--json", "--out", tmp_path / "c.csv")
    found = json.loads(out)
    assert code == 0
    assert found["polarity"] == -1
    assert found["passband_db"]["value"] == pytest.approx(-6.02, abs=0.02)
    assert found["latency_s"]["value"] == pytest.approx(500 / RATE, abs=1e-5)
    assert (found["coherence"] is not None) == (kind == "noise")
    assert (tmp_path / "c.csv").read_text().startswith("frequency_hz,magnitude_db,phase_deg,uncertainty_db,snr_db")


def test_levels_say_that_a_recorder_clipped_and_which_channel_was_taken(run, tmp_path):
    t = np.arange(48_000) / 48_000
    loud, soft = np.clip(14 * np.sin(2 * np.pi * 220 * t), -10, 10), 0.5 * np.sin(2 * np.pi * 330 * t)
    write_recording(tmp_path / "a.wav", np.stack([soft, loud]), 48_000)
    found = json.loads(run("measure", "levels", tmp_path / "a.wav", "--json")[1])
    assert [warning["code"] for warning in found["warnings"]] == ["channel_chosen", "clipped"]
    assert "right" in found["warnings"][0]["sentence"]
    assert found["warnings"][1]["at_s"] == pytest.approx(0.25 / 220 * np.arcsin(10 / 14) * 2 / np.pi, abs=2e-4)
    found = json.loads(run("measure", "levels", tmp_path / "a.wav", "--channel", "left", "--json")[1])
    assert found["warnings"] == []
    assert found["peak_v"] == pytest.approx(0.5, rel=1e-3)
    write_recording(tmp_path / "b.wav", np.clip(4 * np.sin(2 * np.pi * 220 * t), -2, 2), 48_000)  # the unit's own rails
    assert json.loads(run("measure", "levels", tmp_path / "b.wav", "--json")[1])["warnings"] == []
