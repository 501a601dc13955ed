"""Resonance and levels measured on simulated units, against what the units really are."""

import numpy as np
import pytest

from jiyuu.bench.setup import Setup, SourceSetting
from jiyuu.circuits.filter_file import Filter, Tolerances
from jiyuu.circuits.linear import complex_gain, level_db, onset
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import MeasurementError
from jiyuu.progress import Progress
from jiyuu.rig.protocol import PanelSettings
from jiyuu.rig.resonance_run import ResonanceRequest, run_resonance
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.signals.source import SourceKind
from tests.benching import found, run_of
from tests.trials import some

VOICE = Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=700.0)


@pytest.mark.long
@pytest.mark.parametrize(("circuit_id", "mode", "seed"), some([
    ("transistor-ladder", "lowpass-24", 2), ("state-variable", "bandpass", 1),
    ("sallen-key-highpass", "highpass-12", 3),
], 1))
def test_a_run_finds_body_peak_and_the_hidden_onset(circuit_id, mode, seed):
    document = VOICE.model_copy(update={"circuit": circuit_id})
    positions = (0.0, 10.0, 20.0, 40.0, 60.0, 80.0, 100.0)
    *progress, run = run_resonance(ResonanceRequest(PanelSettings(700.0, 60.0), mode, positions),
                                   SimulatedRig(document, seed=seed))
    assert all(isinstance(step, Progress) for step in progress)
    unit = draw_unit(document, seed)
    cutoff_hz = unit.drawn.cutoff_hz(700.0)
    true_onset = document.percent_at(onset(unit.network, cutoff_hz=cutoff_hz).gain / unit.drawn.gain_factor)
    assert run.onset_percent == pytest.approx(true_onset, abs=0.5)
    assert abs(run.onset_percent - true_onset) < run.onset_uncertainty
    gains = document.gains_at(run.curves.position_percent) * unit.drawn.gain_factor
    for i in (0, 2, 4):
        exact = level_db(complex_gain(unit.network, run.frequency_hz, cutoff_hz=cutoff_hz, gain=gains[i],
                                      modes=[mode]) * unit.drawn.level)[0]
        loud = exact > exact.max() - 15  # a sweep of 20 mV over 60 µV of noise
        assert np.sqrt(np.mean((run.level_db[i] - exact)[loud] ** 2)) < 0.05
    assert run.taper is None
    assert "at most 5 %" in run.why_no_taper


@pytest.mark.long
def test_a_peak_that_a_sweep_would_compress_is_measured_softly():
    """Two positions before the onset; a sweep of the usual 20 mV finds 37.8 dB of the last peak's 44.1."""
    positions = (0.0, 85.0, 90.0, 95.0)
    *_, run = run_resonance(ResonanceRequest(PanelSettings(700.0, 60.0), "lowpass-24", positions),
                            SimulatedRig(VOICE, seed=2))
    unit = draw_unit(VOICE, 2)
    cutoff_hz = unit.drawn.cutoff_hz(700.0)
    octave = np.log2(600.0) + np.arange(0, 0.5, 1e-5)
    for i in (1, 2):
        gain = VOICE.gain_at(positions[i]) * unit.drawn.gain_factor
        exact = level_db(complex_gain(unit.network, 2.0**octave, cutoff_hz=cutoff_hz, gain=gain,
                                      modes=["lowpass-24"]) * unit.drawn.level)[0]
        assert run.curves.highest_db[i] == pytest.approx(exact.max(), abs=0.35)
        assert run.curves.peak_hz[i] == pytest.approx(2 ** octave[exact.argmax()], rel=1e-3)
        wide = octave[exact > exact.max() - 10 * np.log10(2)]
        q = 2 ** octave[exact.argmax()] / (2 ** wide[-1] - 2 ** wide[0])
        assert run.curves.q[i] == pytest.approx(q, rel=0.02)


@pytest.mark.long
def test_a_unit_that_never_whistles_has_no_onset():
    tame = VOICE.model_copy(update={"full_gain": 3.0})
    *_, run = run_resonance(ResonanceRequest(PanelSettings(700.0, 50.0), "lowpass-24", (0.0, 50.0, 100.0)),
                            SimulatedRig(tame, seed=1))
    assert run.onset_percent is None
    assert run.curves.position_percent.size == 3


@pytest.mark.long
def test_a_unit_that_whistles_at_once_is_refused():
    wild = VOICE.model_copy(update={"full_gain": 400.0})
    with pytest.raises(MeasurementError, match="resonance trim"):
        list(run_resonance(ResonanceRequest(PanelSettings(700.0, 0.0), "lowpass-24", (0.0, 50.0, 100.0)),
                           SimulatedRig(wild, seed=1)))


@pytest.mark.parametrize(("level_v", "verdict"), [(1.0, "in tolerance"), (20.0, "out of tolerance")])
def test_levels_of_a_source_through_a_unit(level_v, verdict):
    exact = VOICE.model_copy(update={
        "circuit": "state-variable", "parameters": {"stage_headroom_v": 10.0}, "cutoff_hz": 8000.0,
        "tolerances": Tolerances(gain_db=0.0, offset_mv=0.0),
    })
    sine = SourceSetting(kind=SourceKind.SINE, pitch_hz=100.0, level_v=level_v)
    run = run_of("setup", exact, seed=1, mode="lowpass", setup=Setup(inputs=(sine,)))
    peak = found(run)["output_peak_v"]
    assert peak.verdict == verdict
    if level_v == 1.0:
        assert peak.value == pytest.approx(1.0, rel=0.01)
    else:
        assert peak.value <= 10.6 * 1.01  # the rails, and what the converter's filter adds at their corners
