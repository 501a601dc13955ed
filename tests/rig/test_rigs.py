"""The simulated rig keeps its truth to itself and can be found out; the file rig tells its two files apart."""

import numpy as np
import pytest

from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.trims import Trims
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import SignalError
from jiyuu.progress import Progress
from jiyuu.rig.files import read_pair, tell_apart
from jiyuu.rig.protocol import PanelSettings
from jiyuu.rig.response_run import ResponseRequest, ResponseRun, run_response
from jiyuu.rig.simulated import Interface, SimulatedRig
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from tests.benching import run_of

VOICE = Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=820.0, resonance_percent=45.0)


def measured(document, seed):
    panel = PanelSettings(document.cutoff_hz, document.resonance_percent)
    gain = document.gain_at(document.resonance_percent)
    request = ResponseRequest(panel, document.network(), gain, (document.chosen_mode,))
    return list(run_response(request, SimulatedRig(document, seed=seed)))


def test_a_seed_is_a_unit():
    first, again, other = (draw_unit(VOICE, seed) for seed in (4, 4, 5))
    assert first.drawn.cutoff_hz(500.0) == again.drawn.cutoff_hz(500.0)
    assert (first.network.rate_ratio == again.network.rate_ratio).all()
    assert first.drawn.cutoff_hz(500.0) != other.drawn.cutoff_hz(500.0)


def test_units_scatter_as_the_filter_says():
    loose = VOICE.model_copy(update={"tolerances": Tolerances(
        cutoff_offset_cents=100.0, cutoff_scale_percent=0.0, droop_cents=0.0, leak_cents=0.0
    )})
    cents = [1200 * np.log2(draw_unit(loose, seed).drawn.cutoff_hz(261.6255653) / 261.6255653) for seed in range(400)]
    assert np.std(cents) == pytest.approx(100, rel=0.1)
    assert abs(np.mean(cents)) < 15


def test_converters_fall_flat_at_the_top_and_sharp_at_the_bottom():
    tolerances = Tolerances(cutoff_offset_cents=0.0, cutoff_scale_percent=0.0, droop_cents=20.0, leak_cents=10.0)
    voice = VOICE.model_copy(update={"tolerances": tolerances})
    units = [draw_unit(voice, seed) for seed in range(300)]
    flat = [-1200 * np.log2(unit.drawn.cutoff_hz(10_000.0) / 10_000.0) for unit in units]
    sharp = [1200 * np.log2(unit.drawn.cutoff_hz(20.0) / 20.0) for unit in units]
    assert min(flat) > -1
    assert min(sharp) > -1
    assert np.sqrt(np.mean(np.square(flat))) == pytest.approx(20, rel=0.15)
    assert np.sqrt(np.mean(np.square(sharp))) == pytest.approx(10, rel=0.15)


def quiet_rig():
    """Without noise of its own, so that two plays can be compared."""
    voice = VOICE.model_copy(update={"tolerances": VOICE.tolerances.model_copy(update={"noise_uv": 0.0})})
    return SimulatedRig(voice, seed=3)


@pytest.mark.long
def test_settings_played_at_once_are_those_played_apart():
    rig, knock = quiet_rig(), np.random.default_rng(1).standard_normal(4000)
    panels = [PanelSettings(hertz, percent, Trims(scale=turns)) for hertz, percent, turns in
              ((300.0, 0.0, 0.0), (900.0, 50.0, 2.0), (1500.0, 95.0, -1.0), (2000.0, 20.0, 0.5))]
    together = rig.play_each(knock, panels, ["lowpass-24", "notch"])
    for panel, recorded in zip(panels, together, strict=True):
        assert rig.play(knock, panel, ["lowpass-24", "notch"]) == pytest.approx(recorded, abs=5e-6)


def test_volts_held_are_volts_that_stand_at_the_input():
    rig, knock = quiet_rig(), np.random.default_rng(1).standard_normal(4000)
    panel, held = PanelSettings(200.0, 30.0), (0.0, 1.0, 2.5, -1.0)
    together = rig.play_each(knock, [panel] * 4, ["lowpass-24"], held_v=held)
    for volts, recorded in zip(held, together, strict=True):
        alone = rig.play(knock, panel, ["lowpass-24"], cutoff_cv_v=np.full(knock.size, volts))
        # Where the volts begin to be played they swing in; where they stand they do not.
        assert alone[:, 1000:] == pytest.approx(recorded[:, 1000:], abs=2e-5)


@pytest.mark.long
def test_a_run_finds_the_hidden_truth():
    *progress, run = measured(VOICE, 11)
    assert all(isinstance(step, Progress) for step in progress)
    assert isinstance(run, ResponseRun)
    truth = draw_unit(VOICE, 11)
    found = {finding.quantity: finding for finding in run_of("response", VOICE, seed=11).findings}
    mean_rate = np.exp(np.mean(np.log(truth.network.rate_ratio)))
    assert found["pole_hz"].value == pytest.approx(truth.drawn.cutoff_hz(820.0) * mean_rate, rel=0.005)
    assert run.response.latency_s.value == pytest.approx(Interface().latency_s, abs=1 / 48_000)
    assert run.response.clock_offset_ppm.value == pytest.approx(Interface().clock_offset_ppm, abs=0.3)
    assert run.fit.gain.value == pytest.approx(VOICE.gain_at(45) * truth.drawn.gain_factor, rel=0.02)


@pytest.mark.long
def test_an_inverting_unit_is_told():
    voice = Filter(name="B", circuit="state-variable", cutoff_hz=900.0, tolerances=Tolerances(inverts=True))
    found = {finding.quantity: finding.value for finding in run_of("response", voice, seed=3).findings}
    assert found["polarity"] == -1


@pytest.mark.long
def test_a_unit_out_of_trim_is_out_of_tolerance():
    off = VOICE.model_copy(update={"tolerances": Tolerances(cutoff_offset_cents=400.0)})
    seed = next(s for s in range(50) if draw_unit(off, s).drawn.cutoff_hz(820.0) > 1000)
    found = {finding.quantity: finding for finding in run_of("response", off, seed=seed).findings}
    assert found["pole_hz"].verdict.value == "out of tolerance"


def test_the_converter_clips_and_rounds():
    rig = SimulatedRig(VOICE, seed=1, interface=Interface(full_scale_v=0.5, bits=8))
    stimulus = sweep_stimulus(SweepPlan(level_v=5.0, sweep_s=0.6), sample_rate_hz=48_000)
    recording = rig.play(stimulus, PanelSettings(5000.0, 0.0), ["lowpass-24"])
    assert recording.shape[0] == 1
    assert recording.shape[1] > stimulus.size
    assert np.abs(recording).max() == 0.5
    assert np.abs(recording * 256 - np.round(recording * 256)).max() < 1e-9


def test_every_play_has_noise_of_its_own():
    rig = SimulatedRig(VOICE, seed=1)
    silence = np.zeros(4800)
    first, second = (rig.play(silence, PanelSettings(500.0, 0.0), ["lowpass-24"]) for _ in range(2))
    assert (first != second).any()
    assert np.std(first - second) == pytest.approx(np.sqrt(2) * 60e-6, rel=0.1)


def test_the_stimulus_is_told_from_the_recording_in_either_order(tmp_path):
    stimulus = sweep_stimulus(SweepPlan(level_v=0.1, sweep_s=1.0), sample_rate_hz=48_000)
    recording = SimulatedRig(VOICE, seed=2).play(stimulus, PanelSettings(800.0, 20.0), ["lowpass-24"])[0]
    paths = [tmp_path / "one.wav", tmp_path / "two.wav"]
    for path, record in zip(paths, (stimulus, recording), strict=True):
        write_recording(path, record, 48_000)
    assert tell_apart(*paths) == tuple(paths)
    assert tell_apart(*reversed(paths)) == tuple(paths)
    pair = read_pair(*paths)
    assert np.abs(pair.stimulus_v - stimulus).max() < 1e-6


def test_files_of_different_rates_do_not_belong_together(tmp_path):
    write_recording(tmp_path / "a.wav", np.ones(100), 48_000)
    write_recording(tmp_path / "b.wav", np.ones(100), 44_100)
    with pytest.raises(SignalError, match="record at the rate of the stimulus"):
        read_pair(tmp_path / "a.wav", tmp_path / "b.wav")


def stepped(**tolerances):
    """A second of silence with the control stepping up by two volts in its middle; the unit's output."""
    quiet = {"noise_uv": 0.0, "offset_mv": 0.0, **tolerances}
    voice = VOICE.model_copy(update={"tolerances": Tolerances(**quiet)})
    control = np.repeat([0.0, 2.0], 24_000)
    rig = SimulatedRig(voice, seed=1, interface=Interface(latency_s=0.0, clock_offset_ppm=0.0))
    return rig.play(np.zeros(48_000), PanelSettings(500.0, 0.0), ["lowpass-24"], cutoff_cv_v=control)[0]


def test_a_control_step_thumps_and_the_thump_dies_away():
    out = stepped(feedthrough_mv=5.0, slew_ms=0.0)
    assert np.abs(out[:23_000]).max() < 1e-5
    assert out.max() == pytest.approx(2 * 5e-3, rel=0.05)
    assert abs(out[24_000 + round(0.005 * 48_000)]) == pytest.approx(2 * 5e-3 * np.exp(-1), rel=0.1)
    assert np.abs(out[24_000 + 4800 :]).max() < 1e-5


def test_slew_softens_the_step():
    assert stepped(feedthrough_mv=5.0, slew_ms=20.0).max() < 0.4 * stepped(feedthrough_mv=5.0, slew_ms=0.0).max()


def test_control_volts_move_the_cutoff_by_octaves():
    exact = Tolerances(capacitor_percent=0, offset_mv=0, cutoff_offset_cents=0, cutoff_scale_percent=0, gain_db=0,
                       onset_travel_percent=0, droop_cents=0, leak_cents=0, noise_uv=0)
    voice = VOICE.model_copy(update={"tolerances": exact})
    tone = 0.01 * np.sin(2 * np.pi * 2000 * np.arange(24_000) / 48_000)
    rig = SimulatedRig(voice, seed=1)
    moved = rig.play(tone, PanelSettings(500.0, 0.0), ["lowpass-24"], cutoff_cv_v=np.full(24_000, 2.0))[0]
    plain = rig.play(tone, PanelSettings(2000.0, 0.0), ["lowpass-24"])[0]
    settled = slice(8000, 20_000)
    assert np.abs(moved - plain)[settled].max() < 1e-3 * np.abs(plain[settled]).max()
