"""The command line: results, one-line messages, exit codes, whole files."""

import csv
import io
import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from jiyuu.circuits.catalogue import circuit, circuits
from jiyuu.circuits.filter_file import Filter, write_filter
from jiyuu.circuits.linear import complex_gain
from jiyuu.signals.recordings import read_recording, write_recording
from jiyuu.simulation.render import render

RATE = 48_000


def test_circuits_lists_the_catalogue(run):
    code, out, err = run("circuits", "--json")
    listed = json.loads(out)["circuits"]
    assert (code, err) == (0, "")
    assert {entry["id"] for entry in listed} == set(circuits())
    by_id = {entry["id"]: entry for entry in listed}
    assert by_id["diode-ladder"]["onset_gain"] == pytest.approx(17)
    assert set(by_id["transistor-ladder"]["parameters"][0]) == {"name", "unit", "default", "min", "max", "meaning"}
    assert "transistor-ladder" in run("circuits")[1]


def test_respond_writes_the_small_signal_response(run, tmp_path):
    path = tmp_path / "r.csv"
    code, out, _ = run("respond", "transistor-ladder", "--mode", "lowpass-12", "--cutoff", "1k", "--resonance-gain",
                       "2.5", "--set", "compensation=0.5", "--drive-db", "6", "--points", "31", "--out", path)
    assert (code, out) == (0, "")
    rows = list(csv.DictReader(io.StringIO(path.read_text())))
    assert list(rows[0]) == ["frequency_hz", "magnitude_db", "phase_deg", "group_delay_s"]
    hz = np.array([float(row["frequency_hz"]) for row in rows])
    assert hz == pytest.approx(np.geomspace(20, 20_000, 31))
    p = 1 / (1 + 1j * hz / 1000)
    true = 10 ** (6 / 20) * (1 + 0.5 * 2.5) * p**2 / (1 + 2.5 * p**4)
    assert [float(row["magnitude_db"]) for row in rows] == pytest.approx(20 * np.log10(np.abs(true)), abs=1e-6)
    phase = np.array([float(row["phase_deg"]) for row in rows])
    assert phase == pytest.approx(np.rad2deg(np.unwrap(np.angle(true))), abs=1e-6)


def test_respond_takes_a_file_with_its_own_settings(run, tmp_path):
    path = tmp_path / "voice.filter.json"
    write_filter(path, Filter(name="Fog voice", circuit="state-variable", cutoff_hz=500, resonance_percent=50,
                              mode="bandpass"))
    out = run("respond", path, "--from", 500, "--to", 501, "--points", 2)[1]
    level = float(next(csv.DictReader(io.StringIO(out)))["magnitude_db"])
    assert level == pytest.approx(-20 * np.log10(2 - 1.1), abs=1e-6)


def test_render_is_the_simulation_at_the_files_length_rate_and_level(run, tmp_path):
    source = 3 * np.sin(2 * np.pi * 220 * np.arange(4800) / RATE)
    write_recording(tmp_path / "in.wav", source, RATE)
    write_recording(tmp_path / "cv.wav", np.full(100, 1.0), RATE)
    code, _, _ = run("render", "ota-cascade", tmp_path / "in.wav", tmp_path / "out.wav", "--cutoff", 400,
                     "--resonance-gain", 3, "--cutoff-cv", tmp_path / "cv.wav", "--drive-db", 6)
    assert code == 0
    info = soundfile.info(tmp_path / "out.wav")
    assert (info.samplerate, info.frames, info.subtype) == (RATE, 4800, "FLOAT")
    found = read_recording(tmp_path / "out.wav").loudest_v
    true = render(circuit("ota-cascade").network(), source * 10 ** (6 / 20), sample_rate_hz=RATE, cutoff_hz=800.0,
                  gain=3.0, modes=["lowpass-24"]).output_v[0]
    settled = slice(1000, None)  # the control voltage starts as a step from nothing
    assert np.abs(found - true)[settled].max() < 0.02 * np.abs(true).max()


def test_full_scale_sets_the_volts_of_a_sample(run, tmp_path):
    samples = 0.1 * np.sin(2 * np.pi * 100 * np.arange(4800) / RATE)
    soundfile.write(tmp_path / "in.wav", samples, RATE, subtype="FLOAT")
    levels = []
    for volts in (1e-3, 10):
        run("render", "transistor-ladder", tmp_path / "in.wav", tmp_path / "out.wav", "--full-scale-v", volts,
            "--cutoff", 100)
        levels.append(np.abs(soundfile.read(tmp_path / "out.wav")[0][2400:]).max())
    assert levels[0] == pytest.approx(0.1 / 4, rel=0.01)  # four poles at their own frequency
    assert levels[1] < 0.97 * levels[0]  # a volt saturates the ladder


@pytest.mark.long
def test_a_stimulus_through_a_circuit_is_measured_again(run, tmp_path):
    stimulus, recording, table = tmp_path / "s.wav", tmp_path / "r.wav", tmp_path / "c.csv"
    assert run("stimulus", "sweep", stimulus, "--level-v", 0.005, "--seconds", 2)[0] == 0
    assert soundfile.info(stimulus).channels == 1
    run("render", "transistor-ladder", stimulus, recording, "--cutoff", 900, "--resonance-gain", 2)
    code, out, _ = run("measure", "response", stimulus, recording, "--json", "--out", table)
    assert code == 0
    found = json.loads(out)
    assert found["kind"] == "lowpass"
    assert found["passband_db"]["value"] == pytest.approx(-20 * np.log10(3), abs=0.01)
    assert found["polarity"] == 1
    assert abs(found["latency_s"]["value"]) < 0.5 / RATE
    assert abs(found["clock_offset_ppm"]["value"]) < 0.1
    assert set(found["cutoff_3db_hz"]) == {"value", "uncertainty"}
    rows = list(csv.DictReader(io.StringIO(table.read_text())))
    assert {"frequency_hz", "magnitude_db", "phase_deg", "uncertainty_db", "snr_db"} == set(rows[0])
    hz = np.array([float(r["frequency_hz"]) for r in rows])
    assert np.diff(np.log2(hz)).max() < 1 / 24
    true = complex_gain(circuit("transistor-ladder").network(), hz, cutoff_hz=900.0, gain=2.0, modes=["lowpass-24"])[0]
    level = np.array([float(r["magnitude_db"]) for r in rows])
    near = (np.abs(true) > 0.003) & (hz > 30)
    assert np.abs(level - 20 * np.log10(np.abs(true)))[near].max() < 0.02
    spoken = run("measure", "response", stimulus, recording)[1]
    assert "Slope −" in spoken


def test_measure_tone(run, tmp_path):
    t = np.arange(RATE) / RATE
    write_recording(tmp_path / "t.wav", 2 * np.sin(2 * np.pi * 442 * t) + 0.1 * np.sin(2 * np.pi * 884 * t) + 0.2, RATE)
    code, out, _ = run("measure", "tone", tmp_path / "t.wav", "--json")
    found = json.loads(out)
    assert code == 0
    assert found["frequency_hz"]["value"] == pytest.approx(442, abs=1e-3)
    assert found["note"] == "A4"
    assert found["amplitude_peak_v"] == pytest.approx(2, rel=1e-4)
    assert found["thd_percent"] == pytest.approx(5, rel=1e-3)
    assert found["dc_v"] == pytest.approx(0.2, rel=1e-3)
    assert "A4" in run("measure", "tone", tmp_path / "t.wav")[1]


def test_validate_says_what_a_file_is(run, tmp_path):
    write_filter(tmp_path / "a.filter.json", Filter(name="Fog voice", circuit="diode-ladder"))
    code, out, _ = run("validate", tmp_path / "a.filter.json", "--json")
    assert (code, json.loads(out)["circuit"]) == (0, "diode-ladder")
    assert "Diode ladder" in run("validate", tmp_path / "a.filter.json")[1]
    (tmp_path / "a.wish.json").write_text('{"wishes": [{"quantity": "peak_db", "target": 6, "tolerance": 1}]}')
    assert "wishes for peak_db" in run("validate", tmp_path / "a.wish.json")[1]
    (tmp_path / "a.wish.json").write_text('{"wishes": [{"quantity": "charm", "target": 6, "tolerance": 1}]}')
    assert "'charm' is no quantity" in run("validate", tmp_path / "a.wish.json")[2]


@pytest.mark.parametrize(("arguments", "words"), [
    (("respond", "organ"), "there is no circuit 'organ'"),
    (("respond", "nowhere/x.filter.json"), "is not a file"),
    (("respond", "transistor-ladder", "--cutoff", "0"), "above 0 Hz"),
    (("respond", "transistor-ladder", "--cutoff", "-100"), "above 0 Hz"),
    (("respond", "transistor-ladder", "--cutoff", "60k"), "out of range"),
    (("respond", "transistor-ladder", "--cutoff", "soup"), "not a frequency"),
    (("respond", "transistor-ladder", "--mode", "comb"), "no mode 'comb'"),
    (("respond", "transistor-ladder", "--set", "headroom=1"), "no parameter 'headroom'"),
    (("respond", "transistor-ladder", "--set", "compensation=nan"), "out of range"),
    (("respond", "transistor-ladder", "--set", "compensation"), "not name=value"),
    (("respond", "transistor-ladder", "--resonance", "120"), "out of range"),
    (("respond", "transistor-ladder", "--resonance-gain", "-1"), "out of range"),
    (("respond", "transistor-ladder", "--resonance", "5", "--resonance-gain", "1"), "not both"),
    (("respond", "transistor-ladder", "--points", "1"), "out of range"),
    (("respond", "transistor-ladder", "--from", "200", "--to", "100"), "--from below --to"),
    (("respond", "transistor-ladder", "--points", "many"), "points"),
    (("respond", "transistor-ladder", "--sideways"), "sideways"),
    (("respond",), "FILTER"),
    (("sing",), "sing"),
    (("validate", "nothing.filter.json"), "is not a file"),
    (("validate", "nothing.jiyuu"), "does not exist"),
    (("measure", "tone", "nothing.wav"), "does not exist"),
    (("measure", "response", "a.wav", "b.wav"), "does not exist"),
    (("stimulus", "sweep", "s.wav", "--rate", "8000"), "out of range"),
    (("stimulus", "sweep", "s.wav", "--level-v", "-1"), "out of range"),
    (("characterise", "transistor-ladder", "--seed", "-1", "--out", "x"), "out of range"),
])
def test_bad_input_is_one_line_that_says_what_to_do(refused, arguments, words, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    assert words in refused(*arguments)
    assert list(tmp_path.iterdir()) == []


def test_a_bad_recording_leaves_no_output(refused, tmp_path):
    (tmp_path / "bad.wav").write_bytes(b"RIFF")
    soundfile.write(tmp_path / "nan.wav", np.array([0.0, np.nan]), RATE, subtype="FLOAT")
    for name in ("bad.wav", "nan.wav"):
        refused("render", "state-variable", tmp_path / name, tmp_path / "out.wav")
        refused("measure", "tone", tmp_path / name)
    assert {p.name for p in tmp_path.iterdir()} == {"bad.wav", "nan.wav"}


def test_a_control_voltage_at_another_rate_is_refused(refused, tmp_path):
    write_recording(tmp_path / "in.wav", np.ones(100), 48_000)
    write_recording(tmp_path / "cv.wav", np.ones(100), 44_100)
    assert "rate" in refused("render", "state-variable", tmp_path / "in.wav", tmp_path / "out.wav", "--cutoff-cv",
                             tmp_path / "cv.wav")


def jiyuu(*arguments, **environment):
    import os

    return subprocess.run([sys.executable, "-m", "jiyuu.cli.entry", *arguments], capture_output=True, text=True,
                          env={**{k: v for k, v in os.environ.items() if not k.startswith("QT_")}, **environment},
                          stdin=subprocess.DEVNULL, timeout=60, check=False)


def test_help_lists_the_commands():
    found = jiyuu("--help")
    assert found.returncode == 0
    assert "respond" in found.stdout


def test_a_machine_without_a_screen_is_told_what_is_needed():
    found = jiyuu("--demo", DISPLAY="", WAYLAND_DISPLAY="")
    assert found.returncode == 2
    assert found.stderr.startswith("jiyuu: there is no screen")
    assert "xvfb-run" in found.stderr
    assert found.stderr.count("\n") == 1


def test_a_reader_that_goes_away_is_no_error():
    found = subprocess.run(f"{sys.executable} -m jiyuu.cli.entry circuits --json | head -c 10", shell=True,
                           capture_output=True, text=True, check=False)
    assert found.stderr == ""


def test_oscillate(run):
    code, out, err = run("oscillate", "ota-cascade", "--resonance-gain", 4.4, "--cutoff", 500, "--json")
    found = json.loads(out)
    assert (code, err) == (0, "")
    assert found["oscillates"] is True
    assert found["onset_gain"] == pytest.approx(4, abs=1e-6)
    assert found["frequency_hz"] == pytest.approx(0.84510 * 500, rel=5e-5)
    assert found["cents_from_cutoff"] == pytest.approx(1200 * np.log2(0.84510), abs=0.1)
    assert found["amplitude_peak_v"] == pytest.approx(0.473, rel=1e-3)
    assert found["thd_percent"] == pytest.approx(0.786, abs=0.01)
    quiet = json.loads(run("oscillate", "ota-cascade", "--resonance-gain", 3.9, "--json")[1])
    assert quiet["oscillates"] is False
    assert quiet["onset_gain"] == pytest.approx(4, abs=1e-6)
    assert quiet["frequency_hz"] is quiet["amplitude_peak_v"] is quiet["start_up_s"] is None
    _, spoken, caution = run("oscillate", "transistor-ladder")
    assert "Oscillates from k = 4" in spoken
    assert "start low" in caution


def test_respond_at_level_compresses(run):
    def level(*more):
        rows = csv.DictReader(io.StringIO(run("respond", "transistor-ladder", "--cutoff", 1000, "--resonance-gain", 3.5,
                                              "--points", 41, *more)[1]))
        return np.array([[float(row["magnitude_db"]), float(row["phase_deg"])] for row in rows])

    small, tiny, large = level(), level("--level-v", 0.001), level("--level-v", 3)
    assert np.abs(small - tiny).max() < 0.02
    assert (small[:, 0] - large[:, 0]).max() > 6
    assert np.abs(np.diff(large[:, 1])).max() < 180


def test_netlist_is_written_whole(run, tmp_path):
    path = tmp_path / "ladder.cir"
    assert run("netlist", "transistor-ladder", "--cutoff", 440, "--resonance-gain", 2, "--out", path)[0] == 0
    text = path.read_text()
    assert ".subckt transistor_ladder in cv out_lowpass_24" in text
    assert "fc=440 k=2" in text
    assert text.rstrip().endswith(".end")


@pytest.mark.parametrize("arguments", [
    ("respond", "state-variable", "--level-v", "0"), ("respond", "state-variable", "--level-v", "nan"),
    ("respond", "state-variable", "--level-v", "1", "--resonance-gain", "2.1"),
    ("oscillate", "nothing"), ("oscillate", "state-variable", "--resonance-gain", "-1"),
    ("netlist", "state-variable", "--out", "nowhere/x.cir"),
])
def test_more_bad_input_is_one_line(refused, arguments, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    refused(*arguments)


def test_a_struck_lowpass_gate_rings_on_in_the_dark(run, tmp_path):
    """A knock of 20 ms on the light: the gate passes noise at once and lets go of it slowly, brightest parts first."""
    noise = np.random.default_rng(2).normal(0, 1, RATE)
    knock = np.full(RATE, -8.0)
    knock[4800 : 4800 + 960] = 4.0
    write_recording(tmp_path / "in.wav", noise, RATE)
    write_recording(tmp_path / "cv.wav", knock, RATE)
    assert run("render", "lowpass-gate", tmp_path / "in.wav", tmp_path / "out.wav", "--mode", "both", "--cutoff", 1000,
               "--cutoff-cv", tmp_path / "cv.wav")[0] == 0
    out = read_recording(tmp_path / "out.wav").loudest_v

    def level(start_s, stop_s):
        return np.sqrt(np.mean(out[round(start_s * RATE) : round(stop_s * RATE)] ** 2))

    before, lit, after, late = level(0.02, 0.1), level(0.11, 0.12), level(0.15, 0.2), level(0.6, 0.9)
    assert lit > 100 * before
    assert lit > after > 3 * late
    assert after > 5 * before


@pytest.mark.parametrize("q", [0.7, 5.0, 40.0])
def test_resonance_as_q(run, q):
    """Of a state variable filter k = 2 − 1/Q, so its bandpass stands Q times as high at the cutoff."""
    code, out, _ = run("respond", "state-variable", "--mode", "bandpass", "--cutoff", "1k", "--q", q, "--from", "1k",
                       "--to", "2k", "--points", "2", "--json")
    assert code == 0
    by_gain = run("respond", "state-variable", "--mode", "bandpass", "--cutoff", "1k", "--resonance-gain", 2 - 1 / q,
                  "--from", "1000", "--to", "2 kHz", "--points", "2", "--json")[1]
    assert json.loads(out)["magnitude_db"] == pytest.approx(json.loads(by_gain)["magnitude_db"], abs=1e-6)


def test_a_q_that_cannot_be_is_refused(refused):
    assert "out of reach" in refused("respond", "state-variable", "--q", "0.2")
    assert "give one of --q" in refused("respond", "state-variable", "--q", "2", "--resonance", "5")


@pytest.mark.parametrize(("ending", "begins"), [(".csv", b"frequency_hz,"), (".json", b'{"title"'), (".svg", b"<?xml"),
                                                (".png", b"\x89PNG")])
def test_a_response_is_written_by_its_ending(run, tmp_path, ending, begins):
    assert run("respond", "ota-cascade", "--points", "20", "--out", tmp_path / f"curve{ending}")[0] == 0
    assert (tmp_path / f"curve{ending}").read_bytes().startswith(begins)


def test_an_ending_that_is_none_is_refused_and_nothing_is_written(refused, tmp_path):
    assert ".csv, .json, .svg, .png" in refused("respond", "ota-cascade", "--out", tmp_path / "curve.doc")
    assert list(tmp_path.iterdir()) == []


def test_version_help_and_the_manual(run):
    assert run("--version")[1].startswith("jiyuu 0.")
    assert "respond" in run("-h")[1]
    assert run("respond", "-h")[1] == run("respond", "--help")[1]
    assert "Usage: jiyuu" in run("--demo", "--help")[1]
    code, _, error = run("measure")
    assert code == 2
    assert error.count("\n") > 5
    assert "see 'jiyuu respond --help'" in run("respond", "ota-cascade", "--frm", "3")[2]
    page = run("man")[1]
    for command in ("jiyuu respond FILTER", "jiyuu measure tracking", "jiyuu stimulus sweep"):
        assert f".SS {command}" in page
