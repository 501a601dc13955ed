"""What plays against the clock, as seconds of sound a second on one core, and what moving and driven pictures take."""

import json
import os
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.render import best
from jiyuu.bench.heard import Heard
from jiyuu.bench.live import BLOCK, Mixer, Turned, Voice, looped_source
from jiyuu.bench.standing import Standing
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import onset
from jiyuu.patch.document import Patch
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.patch.reading import parse_patch
from jiyuu.patch.streamed import StreamedPatch
from jiyuu.prediction.drive import drive_ladder
from jiyuu.prediction.drive_map import drive_map
from jiyuu.prediction.moving import moves_of, spectrogram_of
from jiyuu.signals.ceiling import CEILING_DB

RATE = 48_000
HALF_AN_HOUR_S = 1800
LADDER = Filter(name="Fog voice", circuit="transistor-ladder", cutoff_hz=900.0, resonance_percent=60.0)
MOVING: dict[str, Any] = {
    "controls": {
        "line": {"kind": "steps", "values": [0, 1, 0.4, 0.8], "rate_hz": 8.0},
        "swell": {"kind": "lfo", "shape": "triangle", "rate_hz": 0.4},
        "fall": {"kind": "envelope", "attack_s": 0.004, "decay_s": 0.22, "sustain": 0.0, "release_s": 0.1},
    },
    "figure": {"root_hz": 55.0, "step_s": 0.18, "steps": [{"semitones": s} for s in (0, 12, 3, 10, 7, 0, 5, 0)]},
    "routes": [{"from": "line", "to": "fog.cutoff", "amount": 1.0},
               {"from": "swell", "to": "fog.cutoff", "amount": 0.5},
               {"from": "fall", "to": "fog.cutoff", "amount": 2.5}],
}


def seconds(work: Callable[[], object]) -> float:
    """Shortest of some runs, after one that compiles."""
    work()
    return best(work, rounds=3)


def patch_of(path: list[dict[str, Any]], **more: Any) -> Patch:
    sources = [{"kind": "saw", "pitch_hz": 55.0, "level_v": 5.0}]
    made = {"format": "jiyuu-patch", "version": 1, "name": "Fog", "sources": sources, "path": path, **more}
    return parse_patch(json.dumps(made), source="a patch")


def times_real(patch: Patch, sides: int, heard_s: float = 4.0) -> float:
    played = np.tile(sources_record(patch, heard_s, RATE), (sides, 1))
    return heard_s / seconds(lambda: play_patch(patch, played, RATE, own_sources=True, checked=False))


def voices() -> None:
    standing = Standing.of(LADDER)
    voice = Voice(standing, Heard.FILTER, looped_source(standing, Heard.FILTER))
    wide = Standing.of(LADDER.model_copy(update={"cutoff_hz": 9000.0}))
    bright = Voice(wide, Heard.FILTER, looped_source(wide, Heard.FILTER))
    for name, one in (("900 Hz", voice), ("9 kHz", bright)):
        def blocks(one: Voice = one) -> None:
            for _ in range(200):
                one.block()

        print(f"a four-pole filter live at {name}: {200 * BLOCK / RATE / seconds(blocks):.1f} × real time")


def half_an_hour() -> None:
    """Of the simulated output, pulled as fast as it comes, while the cutoff is turned."""
    standing = Standing.of(LADDER)
    mixer, voice = Mixer(), Voice(standing, Heard.FILTER, looped_source(standing, Heard.FILTER))
    mixer.set_level(-6.0)
    mixer.play("now", voice)
    generator, piece = np.random.default_rng(7), 480
    mixer.fill(60 * RATE)
    before, begun, loudest, silent = _resident_mb(), time.perf_counter(), 0.0, 0
    for second in range(HALF_AN_HOUR_S):
        turned = Turned.of(standing)
        voice.turn(replace(turned, cutoff_hz=turned.cutoff_hz * 2.0 ** generator.uniform(-2, 2)))
        for _ in range(RATE // piece):
            heard = mixer.fill(piece)
            loudest = max(loudest, float(np.abs(heard).max()))
            silent += heard.size != piece or not heard.any()
        if second == 0:
            before = _resident_mb()
    spent = time.perf_counter() - begun
    print(f"half an hour of output in {spent:.0f} s ({HALF_AN_HOUR_S / spent:.1f} × real time): {silent} gaps, highest "
          f"{20 * np.log10(loudest):.2f} dB re full scale (ceiling {CEILING_DB:g}), grown by "
          f"{_resident_mb() - before:.1f} MB")


def driven() -> None:
    standing = Standing.of(LADDER)
    network, edge = standing.network, onset(standing.network, cutoff_hz=900.0)
    assert edge is not None
    levels_v = 10 ** (np.linspace(-40, 30, 36) / 20)

    def ladders() -> None:
        for share in (0.0, 0.5, 0.9):
            drive_ladder(network, "lowpass-24", cutoff_hz=900.0, gain=share * edge.gain, frequency_hz=110.0,
                         levels_v=levels_v)

    def mapped(side: int, **how: int) -> None:
        drive_map(network, "lowpass-24", cutoff_hz=900.0, gains=np.linspace(0, 0.985, side) * edge.gain,
                  level_v=10 ** (np.linspace(-40, 30, side) / 20), body_hz=112.5, **how)

    print(f"36 levels at 3 resonances: {seconds(ladders):.2f} s; drive by resonance, 24 × 24: "
          f"{seconds(lambda: mapped(24)):.2f} s, first picture {1e3 * seconds(lambda: mapped(5, passes=0)):.0f} ms")


def moved() -> None:
    filter_ = [{"stage": "filter", "id": "fog", "filter": "transistor-ladder", "cutoff_hz": 900.0,
                "resonance_gain": 2.5}]
    patch = patch_of(filter_, **MOVING)
    stream = StreamedPatch(patch, 1.44, RATE)

    def blocks() -> None:
        for _ in range(100):
            stream.push(np.ones(BLOCK))

    print(f"a figure and three controls on four poles: {times_real(patch, 1):.1f} × real time, streamed "
          f"{100 * BLOCK / RATE / seconds(blocks):.1f} ×; 4 s of it as a "
          f"spectrogram {seconds(lambda: spectrogram_of(patch, 4.0)):.2f} s, its lines "
          f"{1e3 * seconds(lambda: moves_of(patch, 4.0)):.0f} ms")


def combined() -> None:
    bands = [{"frequency_hz": float(hertz), "gain_db": 6.0, "q": 2.0} for hertz in np.geomspace(60, 12_000, 8)]
    other = [{**band, "gain_db": -6.0} for band in bands]
    shapes = [{"stage": "shapes", "id": "shape", "morph": 0.3,
               "settings": [{"name": "a", "bands": bands}, {"name": "b", "bands": other}]}]
    way: dict[str, Any] = {"controls": {"way": {"kind": "lfo", "shape": "sine", "rate_hz": 0.5}},
                           "routes": [{"from": "way", "to": "shape.morph", "amount": 0.5}]}
    print(f"eight bands of shapes in stereo: at rest {times_real(patch_of(shapes), 2):.1f} × real time, moving "
          f"{times_real(patch_of(shapes, **way), 2):.1f} ×")
    bank = [{"stage": "bank", "bands": 24, "spacing_semitones": 3.0, "lowest_hz": 80.0, "q": 20.0,
             "groups": [{"feedback": 0.3}]}]
    print(f"24 bands with feedback: {times_real(patch_of(bank), 1):.1f} × real time")


def _resident_mb() -> float:
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def main() -> None:
    """All of it."""
    for part in (voices, driven, moved, combined, half_an_hour):
        part()
