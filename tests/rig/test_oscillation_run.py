"""Self-oscillation on the simulated rig against the unit's hidden truth."""

import numpy as np
import pytest

from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.linear import onset
from jiyuu.circuits.trims import Trims
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault
from jiyuu.progress import Progress
from jiyuu.rig import oscillation_run
from jiyuu.rig.oscillation_run import OscillationRequest, run_oscillation
from jiyuu.rig.protocol import PanelSettings
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.signals.source import Source
from jiyuu.simulation.oscillation import oscillation
from jiyuu.wording.findings import sentence
from tests.benching import found, run_of
from tests.trials import some


def measured(circuit, seed, **how):
    document = neutral_filter(circuit)
    source = Source(level_v=0.5, pitch_hz=73.0)
    panel = PanelSettings(1000.0, 100.0, how.pop("trims", Trims()))
    request = OscillationRequest(panel, document.chosen_mode, source, **how)
    steps = list(run_oscillation(request, SimulatedRig(document, seed=seed)))
    assert [step.share for step in steps[:-1]] == sorted(step.share for step in steps[:-1])
    assert all(isinstance(step, Progress) for step in steps[:-1])
    return document, steps[-1], draw_unit(document, seed)


@pytest.mark.parametrize(("circuit", "seed"), some([
    ("transistor-ladder", 3), ("ota-cascade", 4), ("state-variable", 5), ("sallen-key-lowpass", 6), ("diode-ladder", 7),
], 1, long=2))
def test_onset_pitch_level_and_pull(circuit, seed):
    document, run, unit = measured(circuit, seed, over_range=circuit == "ota-cascade")
    cutoff_hz = unit.drawn.cutoff_hz(1000.0)
    truth = document.percent_at(onset(unit.network, cutoff_hz=cutoff_hz).gain / unit.drawn.gain_factor)
    assert run.onset_percent.value == pytest.approx(truth, abs=0.5)
    assert abs(run.onset_percent.value - truth) <= run.onset_percent.uncertainty
    pitch = []
    for place in (0, 3, -1):
        percent, hertz, volts = run.position_percent[place], run.pull_hz[place], run.pull_v[place]
        gain = document.gain_at(percent) * unit.drawn.gain_factor
        tone = oscillation(unit.network, document.chosen_mode, cutoff_hz=cutoff_hz, gain=gain)
        assert 1200 * np.log2(hertz / tone.frequency_hz) == pytest.approx(0.0, abs=0.2)
        assert volts == pytest.approx(tone.fundamental_v * abs(unit.drawn.level), rel=0.01)
        pitch.append(tone.frequency_hz)
    assert run.position_percent.size >= 7
    assert run.notices == ()
    assert run.pull_cents[-1] == pytest.approx(1200 * np.log2(pitch[-1] / pitch[0]), abs=1.0)
    assert run.tone.thd_percent == pytest.approx(tone.thd_percent, rel=0.03, abs=0.02)
    if circuit == "ota-cascade":
        assert run.range_v.size == 9
        assert run.range_v.max() / run.range_v.min() < 1.05


@pytest.mark.long
def test_a_whistle_that_drifts_is_named_in_the_run(monkeypatch):
    """As of a unit that warms up: by three cents a second."""
    steady = oscillation_run.settled_tones

    def warming(*asked):
        for record in steady(*asked):
            t = np.arange(record.size) / 48_000
            yield np.interp(t + 0.5 * 3 / 1731 * t * t, t, record)

    monkeypatch.setattr(oscillation_run, "settled_tones", lambda *asked: list(warming(*asked)))
    _, run, _ = measured("transistor-ladder", 3, over_range=False)
    (notice,) = run.notices
    assert notice.fault is Fault.PITCH_UNSTEADY
    assert notice.facts["cents_per_s"] == pytest.approx(3.0, rel=0.1)
    assert run.tone.frequency_hz.uncertainty > 1e-4 * run.tone.frequency_hz.value


def test_a_filter_that_never_whistles_says_so():
    with pytest.raises(MeasurementError, match="even at the end of its resonance control"):
        measured("transistor-ladder", 3, trims=Trims(resonance=-10.0))


@pytest.mark.long
def test_an_onset_at_the_edge_of_the_control_is_trimmed_to_where_it_should_be():
    document = neutral_filter("transistor-ladder").model_copy(update={"resonance_percent": 100.0})

    def run(turns):
        return run_of("self_oscillation", document, seed=3, trims=Trims(resonance=turns))

    first = run(-2.5)
    turn = found(first)["resonance_turn"]
    assert found(first)["onset_percent"].value > 95
    assert sentence(turn).startswith("Resonance trim up by")
    again = run(-2.5 + turn.context.turns)
    # A turn is worth a few per cent more or less.
    assert found(again)["onset_percent"].value == pytest.approx(82.5, abs=1.5)
    assert "resonance_turn" not in found(again)


@pytest.mark.long
def test_the_resonance_trim_moves_the_onset():
    document, run, unit = measured("transistor-ladder", 8, trims=Trims(resonance=4.0), over_range=False)
    drawn = unit.drawn.at(Trims(resonance=4.0), 25.0)
    truth = document.percent_at(onset(unit.network, cutoff_hz=1000.0).gain / drawn.gain_factor)
    assert run.onset_percent.value == pytest.approx(truth, abs=0.3)
