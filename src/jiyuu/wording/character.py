"""Sentences of character: what a descriptor says, and what a difference is worth."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from jiyuu.measurement.contexts import Differing
from jiyuu.measurement.finding import Finding
from jiyuu.quantities import shown_hz, signed
from jiyuu.wording.numbers import signed_digits, stated, three_digits
from jiyuu.wording.quantity import Quantity, context

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

# What a filter does more of than another, and less; {} is by how much.
_MORE: Mapping[str, tuple[str, str]] = {
    "brightness": ("is {} brighter than", "is {} darker than"),
    "sharpness": ("is {} sharper than", "is {} duller than"), "body": ("is {} fuller than", "is {} thinner than"),
    "edge": ("falls {} more past its edge than", "falls {} less past its edge than"),
    "peak": ("peaks {} higher than", "peaks {} lower than"),
    "bass_kept": ("keeps {} more bass than", "loses {} more bass than"),
    "grit": ("is {} grittier than", "is {} cleaner than"),
    "roughness": ("is {} rougher than", "is {} smoother than"),
    "whistle_share": ("whistles {} more than", "whistles {} less than"),
    "calm": ("moves its peak's height {} more with drive than", "moves its peak's height {} less with drive than"),
    "calm_pitch": ("moves its peak's pitch {} more with drive than", "moves its peak's pitch {} less with drive than"),
    "snap": ("rings {} longer than", "rings {} shorter than"),
    "evenness": ("is {} less even to turn than", "is {} more even to turn than"),
    "loudness": ("is {} louder than", "is {} softer than"),
    "cutoff_3db_hz": ("has its −3 dB point {} above that of", "has its −3 dB point {} under that of"),
    "peak_hz": ("has its peak {} above that of", "has its peak {} under that of"),
}


def descriptor_sentence(name: str, value: float | None, why_none: str) -> str:
    """One plain sentence; where there is no value, why."""
    if value is None:
        return f"Not read: {why_none}."
    return _SAYS[name](value)


def difference_sentence(name: str, unit: str, difference: float | None, jnd: float | None, verdict: str,
                        letters: tuple[str, str]) -> str:
    """'B is 0.31 octaves brighter than A: heard (0.07 octaves is noticed).'"""
    first, second = letters
    what = name.replace("_3db_hz", " at −3 dB").replace("_hz", " frequency").replace("_", " ")
    if difference is None:
        return f"{first} and {second} are not comparable in {what}: one of them has none."
    if verdict == "not measured to differ":
        return f"{second} is not measured to differ from {first} in {what}."
    seen = f"{unit} is" if unit != "%" else "are"
    noticed = "" if jnd is None else f" ({three_digits(jnd)} {seen} noticed)"
    more, less = _MORE[name]
    does = (more if difference > 0 else less).format(f"{three_digits(abs(difference))} {_apart(unit)}")
    return f"{second} {does} {first}: {verdict}{noticed}."


def _apart(unit: str) -> str:
    """What two values in a unit are apart in: 45 % and 15 % are not 30 % apart."""
    return "percentage points" if unit == "%" else unit


CAUSES: Mapping[str, str] = {
    "circuit_family": "circuit family", "pole_placement": "where its poles lie", "loop_gain": "loop gain",
    "compensation": "compensation", "headrooms": "headrooms", "mismatch": "mismatch of stages",
    "taper": "taper of the control", "source_level": "level ahead of it",
}


def turning_sentence(name: str, more: str, less: str, place: str) -> str:
    """'From 210 Hz up B is brighter than A, below it the other way round.'"""
    return f"From {place} up {more} {_does(name)} {less}, below it the other way round."


def standing_sentence(name: str, more: str, less: str, low: str, high: str, *, everywhere: bool) -> str:
    """'B is brighter than A from 55 Hz to 440 Hz; elsewhere they are not heard to differ in it.'"""
    span = f"at {low}" if low == high else f"from {low} to {high}"
    rest = ", wherever it was tried" if everywhere else "; elsewhere they are not heard to differ in it"
    return f"{more} {_does(name)} {less} {span}{rest}."


def _does(name: str) -> str:
    return " ".join(_MORE[name][0].replace("{}", "").split())


def why_sentence(unit: str, parts: Mapping[str, float]) -> str:
    """'+0.17 octaves by circuit family, +0.25 by headrooms, −0.21 by loop gain.'"""
    least = 1e-6 * max((abs(share) for share in parts.values()), default=0.0)  # what rounding leaves is no cause
    told = sorted(((share, CAUSES[cause]) for cause, share in parts.items() if abs(share) > least),
                  key=lambda one: -abs(one[0]))
    if not told:
        return "Nothing tells them apart."
    first, *rest = told
    return ", ".join([f"{signed_digits(first[0])} {_apart(unit)} by {first[1]}", *(f"{signed_digits(share)} by {name}"
                                                                    for share, name in rest)]) + "."


def _differs(finding: Finding) -> str:
    by = context(finding, Differing)
    return difference_sentence(by.scale, finding.unit, finding.value if by.comparable else None, by.jnd, by.verdict,
                               (by.first, by.second))


def _measured(title: str, meaning: str, how: str, formula: str = "") -> Quantity:
    return Quantity(title, lambda finding: f"{title} {_stated(finding)}.", meaning, how, formula)


def _stated(finding: Finding) -> str:
    least = 0.01 if finding.unit in ("ms", "cents", "dB", "LU") else 0.001  # nobody reads further
    doubt = None if finding.uncertainty is None else max(finding.uncertainty, least)
    return f"{stated(finding.value, doubt)} {finding.unit}"


LOOKED = ("The source is played through the unit until it stands still, and looked at several times; ± is what the "
          "looks scatter by (Student 1908, Biometrika).")
SWEPT = "Read from soft sweeps through the unit as it is set."

QUANTITIES: dict[str, Quantity] = {
    "brightness": _measured(
        "Brightness", "How far the middle of its spectrum lies above the fundamental.", LOOKED,
        "log₂(spectral centroid / fundamental), weighted by power, 20 Hz to 20 kHz."),
    "sharpness": _measured("Sharpness", "How sharp it sounds at the loudness chosen.", LOOKED,
                           "DIN 45692 on specific loudness after ISO 532-1."),
    "body": _measured("Body", "What it leaves of the source under half the cutoff.", LOOKED,
                      "energy under half the cutoff, out re in."),
    "edge": _measured("Edge", "How hard its edge is.", SWEPT, "drop over the first octave past the −3 dB point."),
    "peak": _measured("Peak", "How high its peak stands.", SWEPT, "highest level re the passband."),
    "bass_kept": _measured(
        "Bass kept", "What resonance does to the bass.", "Soft sweeps with resonance as it is set and without.",
        "level three octaves under the cutoff at this resonance re none."),
    "grit": _measured("Grit", "How much harmonics it adds at the nominal level.", "A tone of 5 V is played through it.",
                      "THD over harmonics 2 to 20."),
    "roughness": _measured("Roughness", "How rough it sounds at the loudness chosen.", LOOKED,
                           "Daniel and Weber 1997, Acustica."),
    "whistle_share": _measured("Whistle share", "How much of what is heard lies at its whistle.", LOOKED,
                               "energy within a sixth of an octave of the whistle, re all."),
    "calm": _measured("Calm, peak level", "How far the height of its peak moves with level.",
                      "Sweeps from 0.1 to 5 V are played through it.", "highest less lowest."),
    "calm_pitch": _measured("Calm, peak frequency", "How far its peak moves in pitch with level.",
                            "Sweeps from 0.1 to 5 V are played through it.", "1200·log₂(highest / lowest)."),
    "snap": _measured("Snap", "How long a knock rings.", "By the slowest pair of poles of the network that explains "
                      "its response.", "T60 = ln 1000 / |Re p|."),
    "loudness": _measured("Loudness re the source", "How loud it comes out.", LOOKED, "ITU-R BS.1770, out less in."),
    "difference": Quantity(
        "Difference", _differs, "What one filter is beside another, in one quantity of their character.",
        "Both are played the same source until they stand still, at one cutoff by the definition chosen, and read "
        "alike. A difference below the uncertainty of both together is not measured; one below what is just noticed is "
        "hardly heard.", formula="second less first; heard where it is more than the just-noticeable difference.",
        schools="Equal loudness asks what they are like; as they are asks what happens when one takes the other's "
        "place.",
    ),
}
