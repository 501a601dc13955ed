"""Which circuit a unit is, by one press on the rig or from files: against what the unit was drawn as."""

from __future__ import annotations

import numpy as np
import pytest

from jiyuu.bench.identity import IDENTITY, IdentitySetting, from_files
from jiyuu.bench.run import Run
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import walk
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.unit import draw_unit
from jiyuu.errors import JiyuuError
from jiyuu.rig.protocol import PanelSettings
from jiyuu.rig.simulated import SimulatedRig
from jiyuu.signals.recordings import write_recording
from jiyuu.signals.sweep import SweepPlan, sweep_stimulus
from jiyuu.wording.findings import sentence
from tests.benching import taken
from tests.trials import some

RATE = 48_000
walk()  # every step's words are known


def last(steps) -> Run:
    *_, run = steps
    assert isinstance(run, Run)
    return run


@pytest.mark.long
def test_one_press_tells_the_unit_with_its_gain_and_keeps_what_it_was_told_by() -> None:
    document = neutral_filter("ota-cascade")
    standing = Standing.of(document, {})
    (run,) = taken(IDENTITY, standing, IdentitySetting(), seed=3)
    verdict, _, gain = run.findings
    assert run.facts["identity"]["verdict"] == "ota-cascade"
    assert sentence(verdict).startswith("OTA cascade, lowpass-24: ")
    drawn = draw_unit(document, 3).drawn.at(standing.panel.trims, 25.0)
    truth = document.gain_at(standing.resonance_percent) * drawn.gain_factor
    assert gain.value == pytest.approx(truth, rel=0.01, abs=1e-3)  # of an onset at 4
    assert {"stimulus 1", "recording 1", "stimulus 2", "recording 2", "whistle"} == {*run.records}
    softest, loudest = (run.table(f"residual {i}") for i in (1, 2))
    left = np.concatenate([softest["candidate_1_db"], loudest["candidate_1_db"]])
    assert np.sqrt(np.nanmean(left**2)) == pytest.approx(run.facts["identity"]["candidates"][0]["residual_db"])


@pytest.mark.long
def test_files_tell_the_same_in_whichever_order_and_without_a_rig(tmp_path) -> None:
    document = neutral_filter("state-variable")
    standing = Standing.of(document, {})
    rig, pairs = SimulatedRig(document, seed=8), []
    for level_v in (0.1, 2.0):
        stimulus = sweep_stimulus(SweepPlan(level_v=level_v, sweep_s=2.0), sample_rate_hz=RATE)
        heard = rig.play(stimulus, PanelSettings(640.0, 40.0), ["lowpass"])[0]
        pair = tmp_path / f"played {level_v}.wav", tmp_path / f"recorded {level_v}.wav"
        write_recording(pair[0], stimulus, RATE)
        write_recording(pair[1], heard, RATE)
        pairs.append(pair)
    run = last(from_files(standing, [pairs[0], pairs[1][::-1]]))
    assert (run.facts["identity"]["verdict"], run.facts["identity"]["mode"]) == ("state-variable", "lowpass")
    assert run.source == "recorded 0.1.wav, recorded 2.0.wav"
    assert run.facts["levels_v"] == pytest.approx([0.1, 2.0], rel=1e-3)
    with pytest.raises(JiyuuError, match="no recording"):
        last(from_files(standing, []))
    write_recording(tmp_path / "noise.wav", np.random.default_rng(1).normal(0, 1, 2 * RATE), RATE)
    with pytest.raises(JiyuuError, match="sweeps of one level"):
        last(from_files(standing, [(tmp_path / "noise.wav", tmp_path / "noise.wav")]))


@pytest.mark.long
@pytest.mark.parametrize(("name", "seed"), some([("transistor-ladder", 4), ("state-variable", 4)], 1))
def test_one_soft_sweep_and_the_whistle_name_no_wrong_circuit(name: str, seed: int) -> None:
    """What one level leaves open of the headrooms is not held against the family that it was."""
    standing = Standing.of(neutral_filter(name), {}).moved(resonance_percent=45.0)
    (run,) = taken(IDENTITY, standing, IdentitySetting(levels_v=(0.1,)), seed=seed)
    assert run.facts["identity"]["candidates"][0]["circuit"] == name
    assert run.facts["identity"]["candidates"][0]["residual_db"] < 0.05


def test_levels_are_asked_for_in_words() -> None:
    asked = IdentitySetting(levels_v=(0.1,)).with_level(2.0)
    assert asked.levels_v == (0.1, 2.0)
    assert asked.with_level(2.0) == asked
    whistling = Standing.of(neutral_filter("transistor-ladder"), {}).moved(resonance_percent=100.0)
    assert "turn resonance down" in IDENTITY.refuse(whistling, asked)
