"""A patch streamed round by round against the same played as one record, which an integrator has judged."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.signal import butter, sosfilt

from jiyuu.patch.document import Patch
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.patch.streamed import StreamedPatch, is_streamed
from jiyuu.signals.looped import SEAM_S
from jiyuu.simulation.live import DELAY
from tests.patch.making import patch

RATE, ROUND_S = 48_000.0, 0.75
LADDER = {"stage": "filter", "id": "own", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 400.0,
          "resonance_gain": 3.0}
STEREO = {"stage": "stereo", "id": "wide", "spacing_octaves": 1.0, "left": [LADDER],
          "right": [{**LADDER, "id": "other"}]}
SWEEP = {"controls": {"slow": {"kind": "lfo", "shape": "triangle", "rate_hz": 2.0}},
         "routes": [{"source": "slow", "target": "own.cutoff", "amount": 1.5}],
         "sources": [{"kind": "saw", "pitch_hz": 100.0, "level_v": 2.0}]}


def made(path, **more):
    return Patch.model_validate(patch(path, **more))


def pushed(stream, count, block=1000):
    return np.concatenate([stream.push(np.ones(block)) for _ in range(count // block)])


@pytest.mark.parametrize("path", [[LADDER, {"stage": "gain", "db": 3}], [STEREO]])
def test_within_a_round_it_is_the_record(path):
    document = made(path, **SWEEP)
    assert is_streamed(document)
    sound = pushed(StreamedPatch(document, ROUND_S, RATE), 30_000)
    whole = play_patch(document, sources_record(document, ROUND_S, RATE)[np.newaxis], RATE, own_sources=True)
    begun = slice(20_000, 29_900)  # the stream's round fades over from its end; by then that is forgotten
    late = slice(begun.start + DELAY, begun.stop + DELAY)
    apart = sound[late] - whole.mean(axis=0)[begun]
    assert 20 * np.log10(np.std(apart) / np.std(whole)) < -75


def test_it_comes_round_without_a_seam_and_is_the_same_again():
    """A slow triangle stands elsewhere at the end of its round than at its beginning."""
    document = made([LADDER], **{**SWEEP, "sources": [{"kind": "sine", "pitch_hz": 100.0, "level_v": 0.1}]})
    size = round(ROUND_S * RATE)
    sound = pushed(StreamedPatch(document, ROUND_S, RATE), 3 * size)
    above = np.abs(sosfilt(butter(8, 8000, "highpass", fs=RATE, output="sos"), sound))[5000:]
    assert 20 * np.log10(above.max() / np.abs(sound).max()) < -80
    assert_allclose(sound[2 * size : 3 * size], sound[size : 2 * size], rtol=0, atol=1e-6)
    seam = round(SEAM_S * RATE)
    assert np.abs(np.diff(sound[2 * size - seam : 2 * size + seam])).max() <= 1.1 * np.abs(np.diff(sound)).max()


def test_it_does_not_matter_how_much_is_asked_for_at_a_time():
    document = made([LADDER], **SWEEP)
    one, other = (StreamedPatch(document, ROUND_S, RATE) for _ in range(2))
    assert_allclose(pushed(one, 40_000, 64), pushed(other, 40_000, 4000)[: 40_000 // 64 * 64], rtol=0, atol=1e-9)


def test_it_goes_on_elsewhere_in_its_round():
    """A tone far from the filter's own: its past is soon forgotten."""
    document = made([LADDER], **SWEEP)
    one, other = StreamedPatch(document, ROUND_S, RATE), StreamedPatch(document, ROUND_S, RATE, place=12_000)
    one.go_to(12_000)
    found, wanted = pushed(one, 20_000), pushed(other, 20_000)
    assert_allclose(found[8000:], wanted[8000:], rtol=0, atol=1e-4 * np.std(wanted))


@pytest.mark.long
def test_a_cutoff_that_moves_can_be_turned_and_drive_too():
    document = made([LADDER], **SWEEP)
    up = StreamedPatch(document, ROUND_S, RATE, turnable="own.cutoff")
    turned = np.concatenate([up.push(np.ones(1000), (1.0, 1.0)) for _ in range(30)])
    higher = made([{**LADDER, "cutoff_hz": 800.0}], **SWEEP)
    assert_allclose(turned[5000:], pushed(StreamedPatch(higher, ROUND_S, RATE), 30_000)[5000:], rtol=0, atol=1e-4)
    louder = made([{"stage": "gain", "db": 20 * np.log10(2)}, LADDER], **SWEEP)
    driven, wanted = StreamedPatch(document, ROUND_S, RATE), StreamedPatch(louder, ROUND_S, RATE)
    found = np.concatenate([driven.push(np.full(1000, 2.0)) for _ in range(20)])
    assert_allclose(found[8000:], pushed(wanted, 20_000)[8000:], rtol=0, atol=1e-4 * np.std(found))


@pytest.mark.parametrize("stage", [
    {"stage": "comb", "frequency_hz": 200.0, "feedback": 0.5}, {"stage": "crush", "rate_hz": 8000.0},
    {"stage": "formants"},
])
def test_what_is_no_network_is_played_from_a_record(stage):
    assert not is_streamed(made([LADDER, stage], **SWEEP))
