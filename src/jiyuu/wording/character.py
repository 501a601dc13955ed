"""Sentences of character: what a descriptor says, and what a difference is worth."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from jiyuu.quantities import shown_hz, signed
from jiyuu.wording.numbers import three_digits

_SAYS: Mapping[str, Callable[[float], str]] = {
    "brightness": lambda v: f"The middle of its spectrum lies {signed(v, 2)} octaves from the fundamental.",
    "sharpness": lambda v: f"It sounds {v:.2f} acum sharp.",
    "body": lambda v: f"Under half the cutoff it passes {signed(v)} dB of the source's energy.",
    "edge": lambda v: f"It falls {v:.1f} dB over the first octave past its −3 dB point.",
    "peak": lambda v: f"It peaks {v:.1f} dB over its passband." if v > 0.05 else "Nothing stands over its passband.",
    "bass_kept": lambda v: f"Three octaves under the cutoff resonance changes it by {signed(v)} dB.",
    "grit": lambda v: f"It adds {three_digits(v)} % of harmonics to a tone of 5 V.",
    "roughness": lambda v: f"It sounds {v:.2f} asper rough.",
    "whistle_share": lambda v: f"{v:.1f} % of what is heard lies at its whistle." if v > 0 else "It does not whistle.",
    "calm": lambda v: f"From 0.1 to 5 V its peak changes by {v:.1f} dB.",
    "calm_pitch": lambda v: f"From 0.1 to 5 V its peak moves by {v:.0f} cents.",
    "snap": lambda v: f"A knock rings for {three_digits(v)} ms, down to a thousandth.",
    "evenness": lambda v: f"The busiest tenth of its resonance control does {v:.0f} % of the whole change.",
    "loudness": lambda v: f"It comes out {signed(v)} LU re the source.",
    "cutoff_3db_hz": lambda v: f"Its −3 dB point lies at {shown_hz(v)}.",
    "peak_hz": lambda v: f"Its peak lies at {shown_hz(v)}.",
}

# What more of a quantity is called of one filter beside another, and less.
_MORE: Mapping[str, tuple[str, str]] = {
    "brightness": ("brighter", "darker"), "sharpness": ("sharper", "duller"), "body": ("fuller", "thinner"),
    "edge": ("steeper at its edge", "softer at its edge"), "peak": ("more peaked", "less peaked"),
    "bass_kept": ("keeping more bass", "keeping less bass"), "grit": ("grittier", "cleaner"),
    "roughness": ("rougher", "smoother"), "whistle_share": ("whistling more", "whistling less"),
    "calm": ("less calm in its peak's level", "calmer in its peak's level"),
    "calm_pitch": ("less calm in its peak's pitch", "calmer in its peak's pitch"),
    "snap": ("ringing longer", "ringing shorter"), "evenness": ("less even to turn", "more even to turn"),
    "loudness": ("louder", "softer"), "cutoff_3db_hz": ("higher at −3 dB", "lower at −3 dB"),
    "peak_hz": ("higher in its peak", "lower in its peak"),
}


def descriptor_sentence(name: str, value: float | None, why_none: str) -> str:
    """One plain sentence; where there is no value, why."""
    if value is None:
        return f"Not read: {why_none}."
    return _SAYS[name](value)


def difference_sentence(name: str, unit: str, difference: float | None, jnd: float | None, verdict: str,
                        letters: tuple[str, str]) -> str:
    """'B is 0.31 octaves brighter than A: heard (0.07 is noticed).'"""
    first, second = letters
    if difference is None:
        return f"{first} and {second} are not comparable in this: one of them has no such value."
    if verdict == "not measured to differ":
        return f"{second} is not measured to differ from {first} in this."
    more, less = _MORE[name]
    noticed = "" if jnd is None else f"; {three_digits(jnd)} {unit} is noticed"
    return (f"{second} is {three_digits(abs(difference))} {unit} {more if difference > 0 else less} than {first}: "
            f"{verdict}{noticed}.")


CAUSES: Mapping[str, str] = {
    "circuit_family": "circuit family", "pole_placement": "where its poles lie", "loop_gain": "loop gain",
    "compensation": "compensation", "headrooms": "headrooms", "mismatch": "mismatch of stages",
    "taper": "taper of the control", "source_level": "level ahead of it",
}


def why_sentence(unit: str, parts: Mapping[str, float]) -> str:
    """'+0.17 octaves by circuit family, +0.25 by headrooms, −0.21 by loop gain.'"""
    told = sorted(((share, CAUSES[cause]) for cause, share in parts.items() if share), key=lambda one: -abs(one[0]))
    if not told:
        return "Nothing tells them apart."
    first, *rest = told
    return ", ".join([f"{_signed(first[0])} {unit} by {first[1]}", *(f"{_signed(share)} by {name}"
                                                                    for share, name in rest)]) + "."


def _signed(value: float) -> str:
    return ("+" if value > 0 else "−") + three_digits(abs(value))
