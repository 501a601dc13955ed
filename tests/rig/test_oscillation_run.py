"""Self-oscillation on the simulated rig against the unit's hidden truth."""

import numpy as np
import pytest

from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.linear import onset
from jiyuu.circuits.trims import Trims
from jiyuu.errors import MeasurementError
from jiyuu.measurement.wording import sentence
from jiyuu.rig.oscillation_run import OscillationRequest, run_oscillation
from jiyuu.rig.response_run import Progress
from jiyuu.rig.simulated import SimulatedRig, draw_unit
from jiyuu.signals.source import Source
from jiyuu.simulation.oscillation import oscillation


def measured(circuit, seed, **how):
    document = neutral_filter(circuit)
    source = Source(level_v=0.5, pitch_hz=73.0)
    request = OscillationRequest(document, 1000.0, document.chosen_mode, 100.0, source, **how)
    steps = list(run_oscillation(request, SimulatedRig(document, seed=seed)))
    assert [step.share for step in steps[:-1]] == sorted(step.share for step in steps[:-1])
    assert all(isinstance(step, Progress) for step in steps[:-1])
    return document, steps[-1], draw_unit(document, seed)


@pytest.mark.parametrize(("circuit", "seed"), [
    ("transistor-ladder", 3), ("ota-cascade", 4), ("state-variable", 5), ("sallen-key-lowpass", 6), ("diode-ladder", 7),
])
def test_onset_pitch_level_and_pull(circuit, seed):
    document, run, unit = measured(circuit, seed, over_range=circuit == "ota-cascade")
    cutoff_hz = unit.cutoff_hz(1000.0)
    truth = document.percent_at(onset(unit.network, cutoff_hz=cutoff_hz).gain / unit.gain_factor)
    assert run.onset_percent.value == pytest.approx(truth, abs=0.5)
    assert abs(run.onset_percent.value - truth) <= run.onset_percent.uncertainty
    pitch = []
    for place in (0, 3, -1):
        percent, hertz, volts = run.position_percent[place], run.pull_hz[place], run.pull_v[place]
        gain = document.gain_at(percent) * unit.gain_factor
        tone = oscillation(unit.network, document.chosen_mode, cutoff_hz=cutoff_hz, gain=gain)
        assert 1200 * np.log2(hertz / tone.frequency_hz) == pytest.approx(0.0, abs=0.2)
        assert volts == pytest.approx(tone.fundamental_v * abs(unit.level), rel=0.01)
        pitch.append(tone.frequency_hz)
    assert run.position_percent.size >= 7
    assert run.pull_cents[-1] == pytest.approx(1200 * np.log2(pitch[-1] / pitch[0]), abs=1.0)
    assert run.tone.thd_percent == pytest.approx(tone.thd_percent, rel=0.03, abs=0.02)
    if circuit == "ota-cascade":
        assert run.range_v.size == 9
        assert run.range_v.max() / run.range_v.min() < 1.05
    for finding in run.findings:
        assert sentence(finding).endswith(".")


def test_a_filter_that_never_whistles_says_so():
    with pytest.raises(MeasurementError, match="even at the end of its resonance control"):
        measured("transistor-ladder", 3, trims=Trims(resonance=-10.0))


def test_an_onset_at_the_edge_of_the_control_is_trimmed_to_where_it_should_be():
    _, run, _ = measured("transistor-ladder", 3, trims=Trims(resonance=-2.5), over_range=False)
    assert run.onset_percent.value > 95
    turn = next(f for f in run.findings if f.quantity == "resonance_turn")
    assert sentence(turn).startswith("Resonance trim up by")
    _, again, unit = measured("transistor-ladder", 3, trims=Trims(resonance=-2.5 + turn.value / 2.0), over_range=False)
    assert again.onset_percent.value == pytest.approx(82.5, abs=1.5)  # a turn is worth a few per cent more or less
    assert not any(f.quantity == "resonance_turn" for f in again.findings)
    _, usual, _ = measured("transistor-ladder", 3, over_range=False)
    assert not any(f.quantity == "resonance_turn" for f in usual.findings)
    assert unit.drawn.trim_factors[3] == pytest.approx(1.0, abs=0.15)


def test_the_resonance_trim_moves_the_onset():
    document, run, unit = measured("transistor-ladder", 8, trims=Trims(resonance=4.0), over_range=False)
    drawn = unit.drawn.at(Trims(resonance=4.0), 25.0)
    truth = document.percent_at(onset(unit.network, cutoff_hz=1000.0).gain / drawn.gain_factor)
    assert run.onset_percent.value == pytest.approx(truth, abs=0.3)
