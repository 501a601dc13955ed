"""What several filters make together, against closed forms of the same filters and arithmetic written out here."""

import json

import numpy as np
import pytest

from jiyuu.bench.patched import patch_of, taken
from jiyuu.bench.standing import Standing
from jiyuu.circuits.linear import complex_gain
from jiyuu.measurement.vowel import nearest_vowel
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.response import respond_patch
from jiyuu.prediction.combined import COMBINED_HZ, combined, findings_of, woken_by
from jiyuu.signals.source import Source, SourceKind
from jiyuu.signals.vowels import VOWELS
from tests.patch.making import gain_of, patch
from tests.truths import FORMS

HIGH = {"stage": "filter", "id": "high", "filter": "state-variable", "mode": "highpass", "cutoff_hz": 200.0,
        "resonance_gain": 0.6}
LOW = {"stage": "filter", "id": "low", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 800.0,
       "resonance_gain": 0.6}


def made(*path):
    return parse_patch(json.dumps(patch(list(path))), source="made up").path


def found_by(path, place=None):
    looked = combined(path, place)
    return looked, {finding.quantity: finding for finding in findings_of(looked, path, place)}


def test_a_highpass_into_a_lowpass_names_its_edges():
    looked, named = found_by(made(HIGH, LOW))
    fine = np.geomspace(20, 20_000, 200_001)
    level = 20 * np.log10(np.abs(gain_of([HIGH, LOW], fine)))
    inside = fine[level > level.max() - 10 * np.log10(2)]
    band = named["band_width_octaves"]
    assert band.context.low_hz == pytest.approx(inside[0], rel=2e-3)
    assert band.context.high_hz == pytest.approx(inside[-1], rel=2e-3)
    assert band.value == pytest.approx(np.log2(inside[-1] / inside[0]), abs=4e-3)
    assert [part.name for part in looked.parts] == ["filter", "filter"]
    assert looked.whole == pytest.approx(looked.parts[0].gain * looked.parts[1].gain)


def test_a_highpass_beside_a_lowpass_names_its_notch():
    """Alike but for their modes they cancel at their cutoff: lowpass and highpass stand half a turn apart."""
    beside = {"stage": "parallel", "branches": [{"path": [{**LOW, "cutoff_hz": 640.0}]},
                                                {"path": [{**HIGH, "cutoff_hz": 640.0}]}]}
    looked, named = found_by(made(beside), (0,))
    assert named["meeting_notch_db"].context.notch_hz == pytest.approx(640.0, rel=0.01)
    assert named["meeting_notch_db"].value > 30
    assert "band_width_octaves" not in named
    adds = [finding for finding in findings_of(looked, made(beside), (0,)) if finding.quantity == "part_adds_db"]
    power = [np.mean(np.abs(gain_of([one], COMBINED_HZ)) ** 2) for one in (
        {**HIGH, "cutoff_hz": 640.0}, {**LOW, "cutoff_hz": 640.0})]
    whole = np.mean(np.abs(gain_of([beside], COMBINED_HZ)) ** 2)
    assert [finding.value for finding in adds] == pytest.approx([10 * np.log10(whole / one) for one in power])


def test_sides_apart_are_named_where_they_are():
    path = made({"stage": "stereo", "left": [LOW], "right": [{**LOW, "id": "r", "cutoff_hz": 1600.0}]})
    looked, named = found_by(path)
    expected = 20 * np.log10(np.abs(gain_of([LOW], COMBINED_HZ) / gain_of([{**LOW, "cutoff_hz": 1600.0}], COMBINED_HZ)))
    assert looked.difference_db == pytest.approx(expected, abs=1e-6)
    assert named["sides_apart_db"].value == pytest.approx(np.abs(expected).max())
    assert named["sides_apart_db"].context.louder == "right"


@pytest.mark.parametrize("vowel", VOWELS)
def test_every_vowel_is_the_nearest_to_itself(vowel):
    path = made({"stage": "formants", "from": vowel, "to": vowel})
    near = nearest_vowel(COMBINED_HZ, 20 * np.log10(np.abs(combined(path, None).whole)))
    assert near.vowel == vowel
    assert near.formants_hz == pytest.approx(VOWELS[vowel], rel=0.01)
    assert near.semitones < 0.1


def test_a_shifted_vowel_says_how_far_off_it_is():
    _, named = found_by(made({"stage": "formants", "from": "i", "to": "i", "shift_octaves": 0.05}), (0,))
    assert named["vowel_semitones"].context.vowel == "i"
    assert named["vowel_semitones"].value == pytest.approx(0.6, abs=0.1)


def test_a_stage_inside_a_stereo_is_looked_at_where_that_moves_it():
    path = made({"stage": "stereo", "spacing_octaves": 2.0, "left": [], "right": [LOW, HIGH]})
    whole = combined(path, (0, 1, 0)).whole
    assert whole == pytest.approx(gain_of([LOW], COMBINED_HZ, 1.0), rel=1e-9)


def test_a_note_wakes_the_bands_its_harmonics_meet():
    """A saw of 100 Hz, 1 V: bands at whole multiples hear 2/(π·n) volts of it; a band between is far softer."""
    bank = Bank(stage="bank", bands=3, spacing_semitones=12.0, lowest_hz=100.0, q=20.0)
    woken = woken_by(bank, (100.0,), Source(SourceKind.SAW, 55.0, 1.0))
    assert [one.band for one in woken] == [0, 1, 2]
    expected = [20 * np.log10(2 / (np.pi * n)) for n in (1, 2, 4)]
    assert [one.level_db for one in woken] == pytest.approx(expected, abs=0.02)
    assert [one.ring_s for one in woken] == pytest.approx([np.log(1000) * 20 / (np.pi * hz) for hz in (100, 200, 400)])
    sine = woken_by(bank, (200.0,), Source(SourceKind.SINE, 55.0, 1.0))
    assert [one.band for one in sine] == [1]


def test_a_bank_says_from_which_feedback_a_group_rings():
    """A single band peaks at 1: so it rings from 1 on, where it is tuned."""
    path = made({"stage": "bank", "bands": 1, "lowest_hz": 330.0, "groups": [{"feedback": 0.4}]})
    _, named = found_by(path, (0,))
    assert named["loop_rings_from"].value == pytest.approx(1.0, rel=1e-6)
    assert named["loop_rings_from"].context.rings_at_hz == pytest.approx(330.0, rel=1e-6)


@pytest.mark.parametrize("knob_hz", [300.0, 1000.0, 4000.0])
def test_filters_that_are_tied_go_with_the_knob_and_keep_their_distance(knob_hz):
    path = [HIGH, {**LOW, "id": "filter"}]
    kept = taken(parse_patch(json.dumps(patch(path[::-1])), source="made up"))
    standing = Standing.of(kept.document, kept.kept)
    standing = standing.moved(setup=standing.setup.changed(tied={"high": -2.0}), cutoff_hz=knob_hz)
    hertz = np.geomspace(30, 15_000, 60)
    expected = FORMS["state-variable", "lowpass"](1j * hertz / knob_hz, 0.6) * FORMS["state-variable", "highpass"](
        1j * hertz / (knob_hz / 4), 0.6)
    gain = complex_gain(standing.network, hertz, cutoff_hz=standing.standing_hz, gain=standing.gain,
                        modes=[standing.mode])[0]
    assert gain == pytest.approx(expected, rel=1e-6)
    assert respond_patch(patch_of(standing, "tied"), hertz)[0].gain == pytest.approx(expected, rel=1e-6)


def test_what_moves_the_knob_moves_what_is_tied_to_it():
    kept = taken(parse_patch(json.dumps(patch([{**LOW, "id": "filter"}, HIGH])), source="made up"))
    standing = Standing.of(kept.document, kept.kept)
    setup = standing.setup.changed(tied={"high": 1.0}, controls={"lfo": {"kind": "lfo", "rate_hz": 1.0}},
                                   routes=[{"source": "lfo", "target": "filter.cutoff", "amount": 0.5}])
    targets = [route.target for route in patch_of(standing.moved(setup=setup), "tied").routes]
    assert targets == ["filter.cutoff", "high.cutoff"]


def test_every_tooth_of_a_comb_is_seen():
    """Peaks 1/(1 − g) high and gaps 1/(1 + g) deep, each of them, however close they lie."""
    comb = {"stage": "comb", "frequency_hz": 87.3, "feedback": 0.9}
    found = combined(made(comb), (0,))
    level = np.abs(found.whole)
    teeth = 87.3 * np.arange(1, 200)
    near = [int(np.argmin(np.abs(found.hertz - hertz))) for hertz in teeth]
    assert found.hertz[near] == pytest.approx(teeth, rel=1e-9)
    assert level[near] == pytest.approx(10.0, rel=1e-6)
    gaps = [int(np.argmin(np.abs(found.hertz - hertz))) for hertz in teeth - 43.65]
    assert level[gaps] == pytest.approx(1 / 1.9, rel=1e-6)


def test_what_a_branch_adds_does_not_hang_on_where_the_teeth_are():
    """A comb of no feedback beside the dry signal is a gain: 6 dB more than without it, whatever the grid."""
    comb = {"stage": "comb", "frequency_hz": 60.0, "feedback": 0.0}
    beside = {"stage": "parallel", "branches": [{"path": [comb]}, {}]}
    path = made(beside)
    added = [one.value for one in findings_of(combined(path, (0,)), path, (0,)) if one.quantity == "part_adds_db"]
    assert added == pytest.approx([6.02, 6.02], abs=0.01)
