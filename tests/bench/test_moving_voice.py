"""What moves, heard while it is turned: at once, without a click, in step."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from jiyuu.bench.heard import HEARD_RATE_HZ, Heard, moving_record
from jiyuu.bench.live import BLOCK, Mixer, Turned, kind_of
from jiyuu.bench.moving_voice import Recorded, Streamed, moving_voice
from jiyuu.bench.setup import Setup
from jiyuu.bench.standing import Standing
from jiyuu.circuits.filter_file import Filter
from jiyuu.rig.sound_output import BUFFER_MS
from jiyuu.signals.ceiling import LIVE_LOOK_AHEAD_S
from jiyuu.simulation.live import DELAY

LADDER = Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=500.0, resonance_percent=50.0)


def moving(**more):
    setup = {"inputs": [{"kind": "sine", "pitch_hz": 110.0, "level_v": 0.3}],
             "controls": {"slow": {"kind": "lfo", "shape": "sine", "rate_hz": 1.0}},
             "routes": [{"source": "slow", "target": "hand.cutoff", "amount": 1.0}], **more}
    standing = Standing.of(LADDER)
    own = standing.setup.in_hand
    for route in setup["routes"]:
        route["target"] = route["target"].replace("hand.", f"{own}.")
    return replace(standing, setup=Setup.model_validate(setup))


@pytest.mark.long
def test_it_is_what_a_record_of_it_is():
    standing = moving()
    voice = moving_voice(standing)
    assert isinstance(voice, Streamed)
    place = voice.place
    sound = np.concatenate([voice.block() for _ in range(60)])
    whole = moving_record(standing, seconds=3.0)
    late = place - DELAY  # what goes in comes out that much later
    assert sound[10_000:50_000] == pytest.approx(whole[late + 10_000 : late + 50_000], abs=3e-4 * np.abs(whole).max())


def test_what_is_turned_is_heard_within_fifty_milliseconds_and_without_a_click():
    voice, mixer = Streamed(moving()), Mixer()
    mixer.set_level(-6.0)
    mixer.play("now", voice)
    mixer.fill(HEARD_RATE_HZ // 2)
    began = Turned.of(moving())
    pieces = [mixer.fill(2400)]
    for wanted in (replace(began, cutoff_hz=1500.0), replace(began, drive=0.3), replace(began, trim=0.5), began):
        voice.turn(wanted)
        pieces.append(mixer.fill(4800))
    sound = np.concatenate(pieces)
    above = sosfilt(butter(8, 10_000, "highpass", fs=HEARD_RATE_HZ, output="sos"), sound)[2000:]
    assert 20 * np.log10(np.abs(above).max()) < -80
    before, voice = np.concatenate([voice.block() for _ in range(20)]), Streamed(moving())
    voice.turn(replace(began, cutoff_hz=5000.0))
    turned, still = (np.concatenate([one.block() for _ in range(4)]) for one in (voice, Streamed(moving())))
    apart = np.abs(turned - still) > 0.01 * np.abs(before).max()
    assert int(np.flatnonzero(apart)[0]) < DELAY + BLOCK
    mixer.voice("now").turn(replace(began, trim=0.0))
    after = mixer.fill(HEARD_RATE_HZ // 5)
    assert np.abs(after[round(0.035 * HEARD_RATE_HZ) :]).max() < 0.5 * np.abs(sound).max()
    late = DELAY + BLOCK + 2 * LIVE_LOOK_AHEAD_S * HEARD_RATE_HZ  # of the slowest
    assert late / HEARD_RATE_HZ + BUFFER_MS / 1000 < 0.05


def test_while_it_is_dragged_the_same_voice_goes_on_and_let_go_of_another_is_made():
    standing = moving()
    voice = Streamed(standing)
    for changes in ({"cutoff_hz": 700.0}, {"setup": standing.setup.model_copy(update={"trim_db": 3.0})}):
        moved = kind_of(standing.moved(**changes), Heard.MOVING)
        assert moved[:-1] == voice.kind[:-1]
        assert moved != voice.kind
    assert kind_of(standing.moved(resonance_percent=10.0), Heard.MOVING)[:-1] != voice.kind[:-1]
    other = Streamed(standing, near=30_000)
    assert other.place == pytest.approx(30_000, abs=BLOCK)
    other.go_to(voice.place)
    assert other.place == voice.place


def test_a_comb_behind_it_is_played_from_a_record():
    own = moving().setup.in_hand
    standing = moving(path=[{"stage": "filter", "id": own, "filter": "transistor-ladder"},
                            {"stage": "comb", "frequency_hz": 200.0, "feedback": 0.4}])
    assert isinstance(moving_voice(standing), Recorded)
