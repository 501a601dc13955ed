"""Descriptors against direct definitions: sums over harmonics of closed-form responses, known sensations."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.character.descriptors import describe
from jiyuu.character.scales import SCALES
from jiyuu.character.sound import Listening, play
from jiyuu.character.subject import Subject
from jiyuu.circuits.filter_file import Filter
from jiyuu.errors import SignalError
from jiyuu.measurement.timbre import roughness_asper, sensation_of
from jiyuu.signals.source import Source, SourceKind

SOFT_V = 1e-3  # so little that nothing bends
REFERENCE_PA = 20e-6


def subject(
    circuit: str = "transistor-ladder", *, gain: float = 0.0, cutoff_hz: float = 1000.0, mode: str | None = None,
    **parameters: float,
) -> Subject:
    document = Filter(name=circuit, circuit=circuit, parameters=parameters)
    return Subject(document, document.entry.mode(mode), cutoff_hz, gain)


def ladder(hertz: np.ndarray, gain: float, cutoff_hz: float = 1000.0) -> np.ndarray:
    return np.abs(1 / ((1 + 1j * hertz / cutoff_hz) ** 4 + gain))


def saw_lines(pitch_hz: float) -> tuple[np.ndarray, np.ndarray]:
    n = np.arange(1, int(20_000 / pitch_hz) + 1)
    return n * pitch_hz, 2 / np.pi / n * SOFT_V


@pytest.mark.parametrize(("pitch_hz", "gain"), [(110.0, 0.0), (82.41, 3.0), (313.0, 3.8), (1234.5, 2.0)])
def test_brightness_and_body_are_the_sums_over_the_harmonics(pitch_hz: float, gain: float) -> None:
    found = describe(subject(gain=gain), Source(SourceKind.SAW, pitch_hz, SOFT_V), names=["brightness", "body"])
    hertz, volts = saw_lines(pitch_hz)
    power = (volts * ladder(hertz, gain)) ** 2
    brightness = np.log2(np.sum(hertz * power) / power.sum() / pitch_hz)
    assert found["brightness"].value == pytest.approx(brightness, abs=2e-4)
    under = hertz < 500
    if under.any():
        body = 10 * np.log10(power[under].sum() / np.sum(volts[under] ** 2))
        assert found["body"].value == pytest.approx(body, abs=2e-3)
    else:
        assert found["body"].value is None
        assert "nothing under" in found["body"].why_none


def test_what_a_drawing_says_is_its_closed_form() -> None:
    gain = 3.0
    found = describe(subject(gain=gain), Source(), names=["peak", "edge", "bass_kept", "snap", "peak_hz"])
    hertz = np.geomspace(10, 20_000, 2_000_001)
    level = 20 * np.log10(ladder(hertz, gain) * (1 + gain))
    assert found["peak"].value == pytest.approx(level.max(), abs=2e-3)
    assert found["peak_hz"].value == pytest.approx(hertz[level.argmax()], rel=1e-4)
    corner = hertz[np.flatnonzero(level > -3.0103)[-1]]
    drop = -3.0103 - 20 * np.log10(ladder(np.array([2 * corner]), gain)[0] * (1 + gain))
    assert found["edge"].value == pytest.approx(drop, abs=5e-3)
    bass = np.array([125.0])
    kept = 20 * np.log10(ladder(bass, gain)[0] / ladder(bass, 0.0)[0])
    assert found["bass_kept"].value == pytest.approx(kept, abs=1e-6)
    slowest = 2 * np.pi * 1000 * (1 - (gain**0.25) / np.sqrt(2))
    assert found["snap"].value == pytest.approx(1e3 * np.log(1000) / slowest, rel=1e-9)


def test_a_filter_that_cannot_bend_is_calm_and_clean() -> None:
    straight = replace(subject(gain=3.0, stage_headroom_v=100.0), drive=1e-3)
    found = describe(straight, Source(), names=["calm", "calm_pitch", "grit"])
    assert found["calm"].value == pytest.approx(0.0, abs=0.01)
    assert found["calm_pitch"].value == pytest.approx(0.0, abs=5.0)
    assert found["grit"].value == pytest.approx(0.0, abs=0.01)


@pytest.mark.long
def test_a_whistle_under_next_to_nothing_is_all_that_is_heard() -> None:
    found = describe(subject(gain=4.4), Source(SourceKind.SAW, 110.0, 1e-3))
    assert found["whistle_share"].value == pytest.approx(100.0, abs=0.5)
    assert found["peak"].value is None
    assert "whistles" in found["peak"].why_none
    assert {*found} == {scale.name for scale in SCALES}
    silent = describe(subject(gain=3.0), Source(SourceKind.SAW, 110.0, 1.0), names=["whistle_share"])
    assert silent["whistle_share"].value == 0.0


def test_sensations_are_those_of_the_standards() -> None:
    rate = 48_000
    t = np.arange(rate) / rate
    tone = np.sqrt(2) * REFERENCE_PA * 10 ** (60 / 20) * np.sin(2 * np.pi * 1000 * t)
    # ISO 532-1: 1 kHz at 60 dB is 4 sone; Daniel and Weber: fully modulated at 70 Hz it is 1 asper.
    assert sensation_of(tone, rate).loudness_sone == pytest.approx(4.0, rel=0.03)
    moved = (1 + np.sin(2 * np.pi * 70 * t)) * np.sin(2 * np.pi * 1000 * t)
    moved *= REFERENCE_PA * 1000 / np.sqrt(np.mean(moved**2))
    assert roughness_asper(moved, rate) == pytest.approx(1.0, rel=0.1)
    assert roughness_asper(tone, rate) < 0.1
    # DIN 45692: 1 kHz, a critical band wide, at 60 dB is 1 acum; a higher tone is sharper.
    high = np.sqrt(2) * REFERENCE_PA * 1000 * np.sin(2 * np.pi * 6000 * t)
    assert sensation_of(tone, rate).sharpness_acum == pytest.approx(1.0, abs=0.06)
    assert sensation_of(high, rate).sharpness_acum > 2.5


def test_equal_loudness_takes_a_plain_gain_away_and_as_they_are_does_not() -> None:
    one, other = (subject(input_gain=gain, stage_headroom_v=100.0) for gain in (1.0, 0.25))
    source = Source(SourceKind.SAW, 110.0, 1.0)
    heard = {}
    for equal in (True, False):
        a, b = (describe(each, source, listening=Listening(equal), names=["sharpness", "loudness"])
                for each in (one, other))
        assert a["loudness"].value - b["loudness"].value == pytest.approx(20 * np.log10(4), abs=0.01)
        heard[equal] = abs(a["sharpness"].value - b["sharpness"].value)
    assert heard[True] < 1e-3 < heard[False]


def test_a_source_that_does_not_stand_still_is_refused() -> None:
    with pytest.raises(SignalError, match="does not stand still"):
        play(subject(), Source(SourceKind.WASH))


def test_noise_says_how_well_it_is_known() -> None:
    """Another piece of the same noise differs by about what is stated."""
    found = describe(subject(gain=2.0), Source(SourceKind.WHITE, level_v=0.01), names=["body", "brightness"])
    hertz = np.linspace(20, 20_000, 400_001)
    power = ladder(hertz, 2.0) ** 2
    body = 10 * np.log10(power[hertz < 500].mean())
    assert abs(found["body"].value - body) < 4 * found["body"].uncertainty + 0.1
    assert found["brightness"].value is None
