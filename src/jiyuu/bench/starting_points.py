"""What a filter may begin to move with: controls, routes, a figure and what is played, made up for the fog voices."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

Made = dict[str, object]
TIDE = [(0, 1, 0), (0, 0, 0), (12, 0, 1), (0, 1, 0), (3, 0, 0), (None, 0, 0), (10, 1, 1), (7, 0, 0)]


@dataclass(frozen=True, slots=True)
class StartingPoint:
    """title: in a list; says: what it is for. make: what of the set-up it gives, for the filter of that id;
    resonance_percent: where it has to stand."""

    title: str
    says: str
    make: Callable[[str], Made]
    resonance_percent: float | None = None


def _figure(step_s: float, notes: list[tuple[int | None, int, int]]) -> Made:
    steps = [{"rest": True} if semitones is None else
             {"semitones": float(semitones), "accent": bool(accent), "slide": bool(slide)}
             for semitones, accent, slide in notes]
    return {"root_hz": 55.0, "step_s": step_s, "slide_s": 0.06, "steps": steps}


def _pitched(kind: str = "saw") -> Made:
    return {"inputs": [{"kind": kind, "pitch_hz": 55.0, "level_v": 5.0}]}


def _route(source: str, target: str, amount: float, **more: object) -> Made:
    return {"source": source, "target": target, "amount": amount, **more}


SHUT: Made = {"shut": {"kind": "constant", "value": -1.0}}  # takes the level away that a control then gives


def _opened_by(control: str) -> list[Made]:
    """The output's level is that control."""
    return [_route("shut", "output.level", 1.0), _route(control, "output.level", 1.0)]


def _envelope(**fields: object) -> Made:
    return {"kind": "envelope", **fields}


def _tide(own: str) -> Made:
    return {**_pitched(), "figure": _figure(0.18, TIDE),
            "controls": {"pitch": {"kind": "figure", "of": "pitch"},
                         "tide": _envelope(attack_s=0.004, decay_s=0.22, sustain=0.0, release_s=0.1, skip_slides=True),
                         "swell": _envelope(attack_s=0.003, decay_s=0.3, sustain=0.4, release_s=0.08), **SHUT},
            "routes": [_route("pitch", "source 1.pitch", 1.0),
                       _route("tide", f"{own}.cutoff", 2.6, accent_percent=40.0),
                       *_opened_by("swell")]}


def _slow(own: str) -> Made:
    return {**_pitched(), "figure": None, "controls": {"swing": {"kind": "lfo", "shape": "triangle", "rate_hz": 0.4}},
            "routes": [_route("swing", f"{own}.cutoff", 1.5)]}


def _held(own: str) -> Made:
    return {**_pitched(), "figure": None,
            "controls": {"drops": {"kind": "hold", "of": "noise", "clock": 6.0, "seed": 3}},
            "routes": [_route("drops", f"{own}.cutoff", 1.8)]}


def _knock(own: str) -> Made:
    return {"inputs": [{"kind": "white noise", "level_v": 0.01}], "figure": None,
            "controls": {"fall": _envelope(attack_s=0.0, decay_s=0.12, sustain=0.0, release_s=0.05, gate=2.0),
                         "knock": _envelope(attack_s=0.001, decay_s=0.25, sustain=0.0, release_s=0.05, gate=2.0),
                         **SHUT},
            "routes": [_route("fall", f"{own}.cutoff", 2.0), *_opened_by("knock")]}


def _wind(own: str) -> Made:
    return {"inputs": [{"kind": "white noise", "level_v": 3.0}], "figure": None,
            "controls": {"gusts": {"kind": "random", "rate_hz": 0.8, "smooth": 1.0, "seed": 5},
                         "lulls": {"kind": "lfo", "shape": "sine", "rate_hz": 0.13, "unipolar": True}},
            "routes": [_route("gusts", f"{own}.cutoff", 1.4), _route("lulls", "output.level", -0.6)]}


def _two(own: str) -> Made:
    return {**_pitched("square"), "figure": _figure(0.36, [(0, 0, 0), (7, 1, 0), (12, 0, 0), (5, 1, 0)]),
            "controls": {"pitch": {"kind": "figure", "of": "pitch"},
                         "bite": _envelope(attack_s=0.001, decay_s=0.05, sustain=0.0, release_s=0.03),
                         "bloom": _envelope(delay_s=0.05, attack_s=0.12, decay_s=0.2, sustain=0.5, release_s=0.1)},
            "routes": [_route("pitch", "source 1.pitch", 1.0), _route("bite", f"{own}.cutoff", 2.2),
                       _route("bloom", f"{own}.cutoff", 1.2)]}


def _loops(own: str) -> Made:
    return {**_pitched(), "figure": None,
            "controls": {"three": _envelope(attack_s=0.02, decay_s=0.28, sustain=0.0, loop="always"),
                         "four": _envelope(attack_s=0.04, decay_s=0.36, sustain=0.0, loop="always")},
            "routes": [_route("three", f"{own}.cutoff", 1.6), _route("four", f"{own}.cutoff", 1.2)]}


def _gate(own: str) -> Made:
    return {**_pitched(), "figure": _figure(0.24, [(0, 0, 0), (None, 0, 0), (3, 1, 0), (0, 0, 0)]),
            "controls": {"strike": _envelope(attack_s=0.002, decay_s=0.2, sustain=0.0, release_s=0.15),
                         "pitch": {"kind": "figure", "of": "pitch"}, **SHUT},
            "routes": [_route("pitch", "source 1.pitch", 1.0), _route("strike", f"{own}.cutoff", 3.0),
                       *_opened_by("strike")]}


def _within(own: str) -> Made:
    return {"inputs": [{"kind": "sine", "pitch_hz": 440.0, "level_v": 1.0}], "figure": None,
            "controls": {"tone": {"kind": "lfo", "shape": "sine", "rate_hz": 130.0}},
            "routes": [_route("tone", f"{own}.cutoff", 0.5)]}


def _bursts(own: str) -> Made:
    return {**_pitched(), "figure": _figure(0.3, [(0, 0, 0), (0, 1, 0), (None, 0, 0), (7, 0, 0)]),
            "controls": {"pitch": {"kind": "figure", "of": "pitch"},
                         "tone": {"kind": "lfo", "shape": "sine", "rate_hz": 220.0},
                         "burst": _envelope(attack_s=0.01, decay_s=0.18, sustain=0.0, release_s=0.05)},
            "routes": [_route("pitch", "source 1.pitch", 1.0), _route("tone", f"{own}.cutoff", 2.0, amount_by="burst")]}


def _follows(own: str) -> Made:
    return {"inputs": [{"kind": "knock figure", "pitch_hz": 55.0, "level_v": 5.0},
                       {"kind": "pink noise", "level_v": 3.0}], "figure": None,
            "controls": {"loud": {"kind": "follower", "of": "source 1", "high_hz": 200.0, "attack_s": 0.004,
                                  "release_s": 0.15}},
            "routes": [_route("loud", f"{own}.cutoff", 1.0)]}


STARTING_POINTS: Mapping[str, StartingPoint] = {
    "tide": StartingPoint("Tide figure with accents", "eight steps, an envelope that slides skip, accents 40 % further",
                          _tide),
    "swing": StartingPoint("Slow swing", "one triangle LFO", _slow),
    "drops": StartingPoint("Held at random", "a new place six times a second", _held),
    "knock": StartingPoint("Knock of a whistle", "a whistle that falls in pitch, as a drum", _knock, 100.0),
    "wind": StartingPoint("Wind", "noise, a random walk and a slow lull", _wind),
    "two": StartingPoint("Two envelopes", "a bite and a bloom on one cutoff", _two),
    "loops": StartingPoint("Loops out of step", "two looping envelopes of other lengths", _loops),
    "within": StartingPoint("A tone in the cutoff", "a sine of 130 Hz moves it: new lines beside every tone", _within),
    "bursts": StartingPoint("Bursts of a tone in the cutoff", "an envelope lets a sine of 220 Hz into it", _bursts),
    "follows": StartingPoint("It follows a rhythm", "opened by how loud the low knocks are", _follows),
    "gate": StartingPoint("Filter and level together", "one envelope opens both, as a lowpass gate does", _gate),
}
