"""What a filter may be combined with to begin with: the path round it, and what goes with its knob."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from jiyuu.bench.patched import marker
from jiyuu.bench.standing import Standing

Made = dict[str, Any]


@dataclass(frozen=True, slots=True)
class Combination:
    """title: in a list; says: what it is for. make: what of the set-up it gives, for the filter as it
    stands; looked_at: the place of the stage that it is about, () for all of the path."""

    title: str
    says: str
    make: Callable[[Standing], Made]
    looked_at: tuple[int, ...] = ()


def _other(own: str, mode: str, **more: Any) -> Made:
    return {"stage": "filter", "id": own, "filter": "state-variable", "mode": mode, "resonance_percent": 0.0, **more}


def _own(standing: Standing) -> Made:
    own = marker(standing.document.circuit, standing.setup.in_hand)
    return own.model_dump(mode="json", exclude_defaults=True)


def _path(*stages: Made, tied: Mapping[str, float] | None = None) -> Made:
    return {"path": list(stages), "tied": dict(tied or {}), "side": "left"}


def _beside(*paths: list[Made], **levels: float) -> Made:
    dry = [{"path": [], "level_db": levels["dry_db"]}] if "dry_db" in levels else []
    return {"stage": "parallel", "branches": [*({"path": path} for path in paths), *dry]}


def _same(standing: Standing, own: str) -> Made:
    """The filter once more, as it stands."""
    return {"stage": "filter", "id": own, "filter": standing.document.circuit, "mode": standing.mode,
            "resonance_gain": round(standing.gain, 6), "parameters": dict(standing.parameters)}


def _notch(standing: Standing) -> Made:
    """A slope of 24 dB turns by a whole circle where one of 12 dB turns by half of one: then the highpass is
    inverted."""
    both = _beside([_own(standing)], [_other("highpass", "highpass")])
    if standing.document.entry.poles == 4:
        both["branches"][1]["polarity"] = -1
    return both


VOICES: tuple[tuple[str, float, float, str], ...] = (  # range, cutoff in Hz, Q, kind
    ("low", 700.0, 6.0, "lowpass"), ("low", 500.0, 9.0, "bandpass"), ("high", 1800.0, 12.0, "bandpass"),
    ("low", 280.0, 14.0, "lowpass"))


def _voices(standing: Standing) -> Made:
    """The pitch of the source and its half, third and quarter, each through coils of its own."""
    source = standing.setup.inputs[0]
    limbs = [{"path": [{"stage": "resonator", "id": f"voice {n}", "range": span, "cutoff_hz": hertz, "q": q,
                        "kind": kind}],
              "level_db": -12.0, "sources": [{"pitch_hz": max(source.pitch_hz / n, 1.0), "level_v": source.level_v}]}
             for n, (span, hertz, q, kind) in enumerate(VOICES, start=1)]
    return _path({"stage": "parallel", "id": "voices", "branches": limbs}, _own(standing))


SHAPES = [{"kind": "low_shelf", "frequency_hz": 120.0, "gain_db": 3.0}, {"kind": "peak", "frequency_hz": 700.0,
                                                                       "gain_db": -4.0, "q": 1.0},
          {"kind": "high_shelf", "frequency_hz": 6000.0, "gain_db": 3.0}]

COMBINATIONS: Mapping[str, Combination] = {
    "band": Combination(
        "Highpass ahead, one knob", "a band of one width that moves with the cutoff",
        lambda own: _path(_other("highpass", "highpass"), _own(own), tied={"highpass": -2.0})),
    "notch": Combination(
        "Highpass beside, one knob", "both sum: a notch where their phases oppose",
        lambda own: _path(_notch(own), tied={"highpass": 1.0}), (0,)),
    "wide": Combination(
        "Left and right apart", "the same circuit on either side, an octave between them",
        lambda own: _path({"stage": "stereo", "left": [_own(own)], "right": [_same(own, "right")]},
                          tied={"right": 1.0}), (0,)),
    "three": Combination(
        "Three beside the dry signal", "a low, a middle and a high band behind one knob",
        lambda own: _path(_beside([_own(own)], [_other("middle", "bandpass", resonance_percent=60.0)],
                                  [_other("high", "bandpass", resonance_percent=60.0)], dry_db=-12.0),
                          tied={"middle": 1.5, "high": 3.0}), (0,)),
    "bank": Combination(
        "Bank behind it", "12 bands that ring with a melody",
        lambda own: _path(_own(own), {"stage": "bank", "id": "bank", "bands": 12, "spacing_semitones": 5.0,
                                      "lowest_hz": 82.5, "q": 12.0, "groups": [{}, {"polarity": -1}]}), (1,)),
    "tuned": Combination(
        "Tuned bank behind it", "12 bands on the notes of a scale that ring when a melody crosses them",
        lambda own: _path(_own(own), {"stage": "bank", "id": "bank", "bands": 12, "tuned": "pentatonic",
                                      "lowest_hz": 110.0, "q": 12.0, "decay_s": 0.6}), (1,)),
    "vowel": Combination(
        "Vowel behind it", "three formants between two vowels",
        lambda own: _path(_own(own), {"stage": "formants", "id": "vowel", "from": "ɑ", "to": "i", "morph": 0.3}), (1,)),
    "coils": Combination(
        "Two resonators of coils behind it", "formants as they once were, soft at their inputs, beside each other",
        lambda own: _path(_own(own), _beside(
            [{"stage": "resonator", "id": "throat", "cutoff_hz": 700.0, "q": 10.0}],
            [{"stage": "resonator", "id": "mouth", "range": "high", "cutoff_hz": 1800.0, "q": 14.0,
              "kind": "bandpass"}])), (1,)),
    "voices": Combination(
        "Four voices of coils ahead of it", "a pitch, its half, third and quarter: each its own source and resonator",
        _voices, (0,)),
    "shapes": Combination(
        "Shelves and a peak behind it", "tone shaped by bands of any kind",
        lambda own: _path(_own(own), {"stage": "shapes", "id": "shapes", "bands": SHAPES}), (1,)),
    "sides": Combination(
        "Shelves and peaks left and right behind it", "either side its own bands; copied across where both are alike",
        lambda own: _path(_own(own), {"stage": "stereo", "left": [{"stage": "shapes", "id": "left", "bands": SHAPES}],
                                      "right": [{"stage": "shapes", "id": "right"}]}), (1,)),
    "notches": Combination(
        "All-pass chain behind it", "notches that move by one knob",
        lambda own: _path(_own(own), {"stage": "allpass", "id": "notches", "stages": 6, "feedback": 0.4}), (1,)),
    "combs": Combination(
        "Combs on a chord behind it", "three delays that ring on a chord, whatever is played into them",
        lambda own: _path(_own(own), {"stage": "chord", "id": "chord", "root_hz": 110.0, "feedback": 0.85,
                                      "damping_hz": 4000.0, "mix": 0.5}), (1,)),
    "crush": Combination(
        "Crusher behind it", "read too seldom and too coarsely: images of everything",
        lambda own: _path(_own(own), {"stage": "crush", "id": "crush", "rate_hz": 6000.0, "bits": 6}), (1,)),
    "crushed": Combination(
        "Crusher ahead of it", "images of the source, which the filter then takes down",
        lambda own: _path({"stage": "crush", "id": "crush", "rate_hz": 6000.0, "bits": 6}, _own(own)), (0,)),
    "dry": Combination(
        "Dry beside it", "how much of the filter is heard, and what phase takes away",
        lambda own: _path(_beside([_own(own)], dry_db=-6.0)), (0,)),
}
