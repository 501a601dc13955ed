"""What is played while it is turned: heard at once, without a click, in step, equally loud, never above the ceiling."""

import tracemalloc
from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from jiyuu.bench.heard import FULL_SCALE_V, Heard
from jiyuu.bench.live import BLOCK, Mixer, Turned, Voice, kind_of, looped_source
from jiyuu.bench.setup import Setup, SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.circuits.filter_file import Filter
from jiyuu.measurement.levels import measure_levels
from jiyuu.measurement.tone import measure_tone
from jiyuu.rig.sound_output import BUFFER_MS
from jiyuu.signals.ceiling import CEILING_DB, LIVE_LOOK_AHEAD_S, LiveCeiling
from jiyuu.signals.source import SourceKind
from jiyuu.simulation.live import DELAY, LiveRenderer
from jiyuu.simulation.render import render

RATE = 48_000
CEILING = 10 ** (CEILING_DB / 20)
LADDER = Standing.of(Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=900.0, resonance_percent=60.0))
TONE = replace(LADDER, setup=Setup(inputs=(SourceSetting(kind=SourceKind.SINE, pitch_hz=110.0, level_v=1.0),)))


def voice(standing, what=Heard.FILTER):
    return Voice(standing, what, looped_source(standing, what))


def mixing(*voices, level_db=-6.0):
    mixer = Mixer()
    mixer.set_level(level_db)
    for name, one in zip(("now", "other"), voices, strict=False):
        mixer.play(name, one, heard=name == "now")
    mixer.fill(RATE // 2)
    return mixer


@pytest.mark.parametrize("factor", [4, 8])
def test_it_plays_what_the_record_renderer_plays(factor):
    t = np.arange(RATE // 2) / RATE
    played = 0.8 * np.sin(2 * np.pi * 330 * t) + 0.2 * np.sin(2 * np.pi * 4700 * t)
    exact = render(LADDER.network, played, sample_rate_hz=RATE, cutoff_hz=900.0, gain=2.5, modes=["lowpass-24"],
                   oversampling=16).output_v[0]
    live = LiveRenderer(LADDER.network, "lowpass-24", sample_rate_hz=RATE, factor=factor)
    pieces = [live.push(played[i : i + 500], cutoff_hz=(900.0, 900.0), gain=(2.5, 2.5))
              for i in range(0, played.size, 500)]
    apart = np.concatenate(pieces)[DELAY + 2000 :] - exact[2000:-DELAY]
    assert 20 * np.log10(np.std(apart) / np.std(exact)) < -80


def test_what_is_turned_is_heard_within_fifty_milliseconds():
    mixer = mixing(voice(TONE))
    steady = np.std(mixer.fill(RATE // 5))
    mixer.voice("now").turn(replace(Turned.of(TONE), trim=0.0))
    after = mixer.fill(RATE // 5)
    level = np.sqrt(np.convolve(after**2, np.ones(218) / 218, mode="valid"))  # half a period
    heard_s = float(np.flatnonzero(level < 0.5 * steady)[0] + 218) / RATE
    assert heard_s < 0.03  # halved by then, what the output holds aside; it begins to fall at once:
    assert (DELAY + 2 * LIVE_LOOK_AHEAD_S * RATE + BLOCK) / RATE + BUFFER_MS / 1000 < 0.05
    first = np.flatnonzero(np.abs(after[218:]) < 0.9 * np.abs(after[:-218]))
    assert first.size


def test_turning_makes_no_click():
    """A tone of 110 Hz, softly through the filter: nothing above 10 kHz may come of turning."""
    mixer, generator = mixing(voice(replace(TONE, setup=TONE.setup.model_copy(update={"inputs": (
        SourceSetting(kind=SourceKind.SINE, pitch_hz=110.0, level_v=0.3),)})))), np.random.default_rng(3)
    own = mixer.voice("now")
    pieces = []
    for _ in range(120):
        own.turn(Turned(float(generator.uniform(0.2, 1.5)), float(300 * 2 ** generator.uniform(0, 4)),
                        float(generator.uniform(0, 3.5)), float(generator.uniform(0.3, 1.5))))
        pieces.append(mixer.fill(1200))
    sound = np.concatenate(pieces)
    above = sosfilt(butter(8, 10_000, "highpass", fs=RATE, output="sos"), sound)[2000:]
    assert 20 * np.log10(np.abs(above).max()) < -80


def test_no_move_passes_the_ceiling():
    loud = replace(LADDER, setup=Setup(drive_db=40.0))
    mixer, generator = mixing(voice(loud), level_db=0.0), np.random.default_rng(4)
    own, highest = mixer.voice("now"), 0.0
    for _ in range(120):
        values = generator.uniform(0, 1, (500, 4))
        for drive, cutoff, gain, trim in values:
            own.turn(Turned(1000 * drive, 20 * 800**cutoff, 6 * gain, 100 * trim))
        highest = max(highest, float(np.abs(mixer.fill(BLOCK)).max()))
    assert 0.9 * CEILING < highest <= CEILING


def test_the_ceiling_of_what_goes_on_takes_out_dc_and_nonsense():
    ceiling = LiveCeiling(RATE)
    t = np.arange(RATE) / RATE
    soft = np.concatenate([ceiling.push(part) for part in np.split(0.1 * np.sin(2 * np.pi * 500 * t) + 0.1, 100)])
    assert soft[RATE // 2 :].mean() == pytest.approx(0, abs=1e-4)
    assert np.abs(soft[RATE // 2 :]).max() == pytest.approx(0.1, rel=0.01)
    broken = ceiling.push(np.array([np.nan, np.inf, -np.inf, 1e300] * 200))
    assert np.isfinite(broken).all()
    assert np.abs(broken).max() <= CEILING


def test_two_are_in_step_and_switched_without_a_trace():
    mixer = mixing(voice(TONE), voice(TONE))
    before = mixer.fill(RATE // 4)
    mixer.listen_to("other")
    after = mixer.fill(RATE // 4)
    whole = np.concatenate([before, after])
    tone = measure_tone(whole, RATE)
    t = np.arange(whole.size) / RATE
    basis = np.stack([np.sin(2 * np.pi * 110 * n * t + p) for n in range(1, 12) for p in (0, np.pi / 2)], axis=1)
    left = whole - basis @ np.linalg.lstsq(basis, whole, rcond=None)[0]
    assert tone.frequency_hz.value == pytest.approx(110.0, rel=1e-4)
    assert 20 * np.log10(np.abs(left).max()) < -80


def test_a_new_voice_goes_on_where_the_old_one_is():
    mixer = mixing(voice(TONE))
    place = mixer.voice("now").place
    mixer.play("now", voice(replace(TONE, mode="lowpass-12")))
    assert mixer.voice("now").place == place
    sound = mixer.fill(RATE // 2)
    assert np.abs(np.diff(sound)).max() < 0.05
    mixer.fade_out()
    mixer.fill(RATE // 2)
    assert not mixer.sounding
    assert not mixer.fill(480).any()


@pytest.mark.long
def test_matched_voices_are_equally_loud():
    other = replace(LADDER, cutoff_hz=300.0, resonance_percent=10.0, setup=Setup(trim_db=-9.0))
    mixer = mixing(voice(LADDER), voice(other), level_db=-30.0)

    def loudness():
        mixer.fill(RATE // 4)
        return measure_levels(mixer.fill(3 * RATE // 2), RATE, full_scale_v=1.0).loudness_lufs

    one = loudness()
    mixer.listen_to("other")
    two = loudness()
    assert abs(one - two) > 2
    mixer.voice("other").match = 10 ** ((one - two) / 20)
    assert loudness() == pytest.approx(one, abs=0.1)


def test_a_whistle_goes_on_and_a_source_is_the_source():
    whistling = replace(LADDER, resonance_percent=100.0)
    sound = mixing(voice(whistling, Heard.WHISTLE), level_db=0.0).fill(RATE)
    assert measure_tone(sound, RATE).frequency_hz.value == pytest.approx(900, rel=0.05)
    alone = mixing(voice(TONE, Heard.SOURCE), level_db=-12.0).fill(RATE)
    assert np.abs(alone).max() == pytest.approx(10 ** (-12 / 20) / FULL_SCALE_V, rel=0.01)


def test_what_only_glides_is_the_same_voice():
    assert kind_of(LADDER, Heard.FILTER) == kind_of(replace(LADDER, cutoff_hz=1000.0, resonance_percent=3.0),
                                                    Heard.FILTER)
    for other in (replace(LADDER, mode="lowpass-12"), replace(LADDER, parameters={"compensation": 1.0}),
                  replace(LADDER, setup=TONE.setup), replace(LADDER, cutoff_hz=9000.0)):
        assert kind_of(LADDER, Heard.FILTER) != kind_of(other, Heard.FILTER)


def test_it_runs_on_without_growing():
    mixer = mixing(voice(LADDER))
    for _ in range(50):
        mixer.fill(480)
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    for _ in range(200):
        mixer.fill(480)
    grown = tracemalloc.get_traced_memory()[0] - before
    tracemalloc.stop()
    assert grown < 200_000
