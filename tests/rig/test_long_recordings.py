"""A recorder that was left running: the stimulus is found in what is too long to be measured as a whole."""

import json

import numpy as np
import pytest
import soundfile
from scipy.signal import butter, sosfilt

from benchmarks.trust import noise_of
from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.response import STEP, from_files
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.cli.entry import main
from jiyuu.errors import SignalError
from jiyuu.measurement.response import measure_response
from jiyuu.rig.files import read_pair, tell_apart, told_of
from jiyuu.rig.long_recordings import part_with
from jiyuu.signals.drive_steps import DriveSteps
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.stimuli import noise_stimulus
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.signals.two_tones import TwoTones
from tests.trials import some
from tests.truths import Made, exact, recorded

RATE = 48_000
SWEEP = sweep_stimulus(SweepPlan(level_v=1.0, sweep_s=1.0), sample_rate_hz=RATE)
NOISE = noise_stimulus(level_v=0.3, sample_rate_hz=RATE, duration_s=1.0, pink=True)
LOWPASS = Made("transistor-ladder", "lowpass-24", 820.0, 2.0)
HIGH = Made("state-variable", "highpass", 14_000.0, 1.0)


@pytest.fixture(autouse=True)
def short_of_room(monkeypatch):
    """What is longer than thirty seconds of one channel is too long."""
    for module in ("jiyuu.signals.recordings", "jiyuu.rig.long_recordings"):
        monkeypatch.setattr(f"{module}.MOST_MEASURED", 30 * RATE)


def left_running(folder, made, stimulus, at_s, *, seconds=32.0, channels=1, ppm=20.0):
    """(stimulus file, recording file): mains hum far louder than the noise, what the filter made of it at at_s."""
    heard = recorded(made, stimulus, RATE, ppm=ppm, delay_s=0.0)
    whole = np.zeros(round(seconds * RATE))
    at = round(at_s * RATE)
    part = heard[max(-at, 0) : whole.size - at]
    whole[max(at, 0) : max(at, 0) + part.size] = part
    whole += noise_of("white", whole.size, 1e-3 * heard.std(), np.random.default_rng(4))
    whole += 0.3 * heard.std() * np.sin(2 * np.pi * 50 * np.arange(whole.size) / RATE)
    write_recording(folder / "played.wav", stimulus, RATE)
    other = noise_of("white", whole.size, 0.01, np.random.default_rng(5))
    soundfile.write(folder / "heard.wav", np.stack([other, whole][2 - channels :], axis=1) / 10, RATE, "FLOAT")
    return folder / "played.wav", folder / "heard.wav"


@pytest.mark.long
@pytest.mark.parametrize(("made", "stimulus"), some([(LOWPASS, SWEEP), (LOWPASS, NOISE), (HIGH, SWEEP)], 1, long=3))
@pytest.mark.parametrize("at_s", some([21.234, 0.4], 1))
def test_it_is_found_wherever_it_stands(made, stimulus, at_s, tmp_path):
    pair = read_pair(*left_running(tmp_path, made, stimulus, at_s))
    assert pair.recording_v.size < stimulus.size + 7 * RATE
    assert "heard.wav is too long" in pair.told
    response = measure_response(pair.stimulus_v, pair.recording_v, float(RATE))
    late = response.latency_s
    true_s = at_s + 20e-6 * (pair.begins_s - at_s)  # what was cut off was counted by the recorder's clock
    assert pair.begins_s + late.value == pytest.approx(true_s, abs=2e-6 + 20e-6 * 2)
    truth = exact(made, (response.frequency_hz[0], response.frequency_hz[-1]))
    level = np.interp(truth["cutoff_3db_hz"], response.frequency_hz, response.level_db)
    assert level == pytest.approx(made.level(np.log2(truth["cutoff_3db_hz"])), abs=0.1)


@pytest.mark.long
def test_the_command_counts_from_the_beginning_of_the_file(tmp_path, capfd):
    stimulus, recording = left_running(tmp_path, LOWPASS, SWEEP, 12.5, seconds=25.0, channels=2, ppm=0.0)
    assert main(["measure", "response", str(stimulus), str(recording), "--json"]) == 0
    out, err = capfd.readouterr()
    found = json.loads(out)
    assert found["latency_s"]["value"] == pytest.approx(12.5, abs=1e-6)
    assert "channel_chosen" in {warning["code"] for warning in found["warnings"]}
    assert "11.5 to 21.0 s" in err
    assert "11.5 to 21.0 s" in told_of(recording, stimulus)
    assert tell_apart(recording, stimulus) == (stimulus, recording)
    standing = Standing.of(neutral_filter("transistor-ladder"), {})
    *_, run = from_files(standing, STEP.setting(), recording, stimulus)
    assert run.source == "played.wav, heard.wav from 11.5 s on"
    (late,) = (finding.value for finding in run.findings if finding.quantity == "latency_s")
    assert late == pytest.approx(12.5, abs=1e-6)


@pytest.mark.long
def test_latency_over_an_interface_that_was_left_running_too(tmp_path, capfd):
    (tmp_path / "wire").mkdir()
    stimulus, recording = left_running(tmp_path, LOWPASS, SWEEP, 12.5, ppm=0.0)
    _, wire = left_running(tmp_path / "wire", Made("state-variable", "highpass", 1.0, 0.0), SWEEP, 20.0, ppm=0.0)
    assert main(["measure", "response", str(stimulus), str(recording), "--loopback", str(wire), "--json"]) == 0
    assert json.loads(capfd.readouterr()[0])["latency_s"]["value"] == pytest.approx(-7.5, abs=1e-5)


def test_a_ladder_of_levels_is_found_without_its_file(tmp_path, capfd):
    steps = DriveSteps(110.0, tuple((10 ** (np.arange(-20, 1, 10) / 20)).tolist()), pair=TwoTones(700.0, 770.0, 0.5))
    _, recording = left_running(tmp_path, LOWPASS, steps.record_v(RATE), 14.2, channels=2)
    asked = ["--frequency", "110", "--levels", "-20:0:10", "--two-tone", "700,770", "--level-v", "0.5", "--json"]
    assert main(["measure", "drive", str(recording), *asked]) == 0
    out, err = capfd.readouterr()
    found = json.loads(out)
    assert "heard.wav is too long" in err
    assert [level["gain_db"]["value"] for level in found["levels"]] == pytest.approx(
        [float(LOWPASS.level(np.log2(110.0)))] * 3, abs=1e-3)
    assert found["difference_3_percent"]["value"] <= found["difference_3_percent"]["uncertainty"] < 0.1  # it is linear


@pytest.mark.parametrize("around", some(["noise", "nothing at all"], 1, long=2))
def test_many_levels_of_one_tone_are_found_in_a_long_recording(around, tmp_path):
    """A ladder repeats itself every 0.9 s, and most of its bins hold nothing."""
    steps = DriveSteps(100.0, tuple((10 ** (np.arange(-40, 31, 2) / 20)).tolist()))
    played = steps.record_v(RATE)
    generator = np.random.default_rng(1)
    whole, at = np.zeros(90 * RATE), round(52.1 * RATE)
    dull = sosfilt(butter(4, 200.0, fs=RATE, output="sos"), np.tanh(played))
    whole[at : at + played.size] = dull + generator.normal(0, 1e-3, played.size)
    if around == "noise":
        whole += generator.normal(0, 1e-3, whole.size)
    path = tmp_path / "left running.wav"
    soundfile.write(path, whole / 10, RATE, "PCM_24")
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("jiyuu.rig.long_recordings.MOST_MEASURED", 90 * RATE)
        part = part_with(path, played, RATE)
    assert part.start / RATE + 1 == pytest.approx(52.1, abs=0.01)


def test_of_a_long_steady_tone_the_middle_is_read(tmp_path, capfd):
    second = np.arange(RATE) / RATE
    moved = np.sin(2 * np.pi * 440 * second) * (1 + 0.2 * np.cos(2 * np.pi * 130 * second))
    write_recording(tmp_path / "moved.wav", np.tile(moved, 45), RATE)
    assert main(["measure", "sidebands", str(tmp_path / "moved.wav"), "--tone", "440", "--rate", "130", "--json"]) == 0
    out, err = capfd.readouterr()
    assert "the middle of it is" in err
    lines = {line["order"]: line["level_db"]["value"] for line in json.loads(out)["lines"]}
    assert (lines[-1], lines[1]) == pytest.approx((-20.0, -20.0), abs=1e-3)


def test_where_it_is_not_nothing_is_measured(tmp_path):
    stimulus, recording = left_running(tmp_path, LOWPASS, SWEEP, 60.0, seconds=40.0)
    with pytest.raises(SignalError, match=r"is not to be found in .*cut out the part"):
        read_pair(stimulus, recording)
    write_recording(stimulus, np.tile(SWEEP, 5), RATE)
    with pytest.raises(SignalError, match="Play a shorter one"):
        read_pair(stimulus, recording)
    write_recording(stimulus, SWEEP[:RATE], 2 * RATE)
    with pytest.raises(SignalError, match="rate of 48000 Hz and the stimulus 96000 Hz"):
        read_pair(stimulus, recording)


@pytest.mark.parametrize("bad", [np.nan, np.inf])
def test_a_long_recording_is_refused_for_what_is_wrong_with_it_anywhere(bad, tmp_path):
    stimulus, recording = left_running(tmp_path, LOWPASS, SWEEP, 2.0)
    samples, _ = soundfile.read(recording)
    samples[30 * RATE] = bad
    soundfile.write(recording, samples, RATE, "FLOAT")
    with pytest.raises(SignalError, match="not numbers"):
        read_pair(stimulus, recording)
    whole = recording.read_bytes()
    recording.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(SignalError, match=r"cut short|cannot be read"):
        read_pair(stimulus, recording)
