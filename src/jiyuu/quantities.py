"""Numbers as people of the field write and read them: notes and cents, typed values with units, levels.

Nothing here knows a filter; it is used by every layer above."""

from __future__ import annotations

import math
import re

from jiyuu.errors import JiyuuError

A4_HZ = 440.0
WIDEST_OCTAVES = 10  # of a step of a scale
C4_HZ = 261.6255653005986  # 0 V of a 1 V/octave control
_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
_NOTE = re.compile(r"^([A-Ga-g])([#b♯♭]?)(-?\d)([+-]\d+(?:\.\d+)?)?$")
_STEP = re.compile(r"^(?:(\d+(?:\.\d+)?)/(\d+(?:\.\d+)?)|([+-]?\d+(?:\.\d+)?)c)$")
_SCALES = {"": 1.0, "k": 1e3, "K": 1e3, "M": 1e6, "m": 1e-3, "u": 1e-6, "µ": 1e-6, "n": 1e-9, "p": 1e-12}
_NUMBER = re.compile(r"^([+\-−]?\d*[.,]?\d+(?:[eE][+-]?\d+)?)\s*([kKMmuµnp]?)(\d*)\s*([A-Za-zΩ%°/]*)$")


def note_and_cents(frequency_hz: float, *, concert_a_hz: float = A4_HZ) -> tuple[str, float]:
    """Nearest note of equal temperament and the distance from it: 442 Hz -> ('A4', +7.85)."""
    steps = 12 * math.log2(frequency_hz / concert_a_hz)
    nearest = round(steps)
    midi = 69 + nearest
    return f"{_NAMES[midi % 12]}{midi // 12 - 1}", 100 * (steps - nearest)


def volts_of(frequency_hz: float) -> float:
    """Control voltage of a frequency at 1 V/octave, 0 V at C4."""
    return math.log2(frequency_hz / C4_HZ)


def volts_between(from_hz: float, to_hz: float) -> float:
    """Control voltage that leads from one frequency to another at 1 V/octave."""
    return math.log2(to_hz / from_hz)


def hz_of_volts(volts: float) -> float:
    """Frequency of a control voltage at 1 V/octave, 0 V at C4."""
    return C4_HZ * 2**volts


def parse_frequency(text: str) -> float:
    """'1k2', '440 Hz', 'A4', 'A4+10' (cents), '0.5 V' (1 V/octave) -> Hz. Raises JiyuuError with examples."""
    stripped = text.strip()
    note = _NOTE.match(stripped)
    if note:
        letter, accidental, octave, cents = note.groups()
        step = _NAMES.index(letter.upper()) + {"": 0, "#": 1, "♯": 1, "b": -1, "♭": -1}[accidental]
        midi = 12 * (int(octave) + 1) + step
        return float(A4_HZ * 2 ** ((midi - 69 + float(cents or 0) / 100) / 12))
    try:
        value, unit = parse_number(stripped)
    except JiyuuError as error:
        raise JiyuuError(f"'{text}' is not a frequency; type for example 1k2, 440 Hz, A4 or 0.5 V.") from error
    if unit == "V":
        return hz_of_volts(value)
    if unit.lower() not in ("", "hz"):
        raise JiyuuError(f"'{text}' is not a frequency; type for example 1k2, 440 Hz, A4 or 0.5 V.")
    if not value > 0:
        raise JiyuuError(f"'{text}' is not a frequency above 0 Hz; type for example 1k2, 440 Hz, A4 or 0.5 V.")
    return value


def parse_scale(text: str, *, one_hz: float | None = None) -> list[float]:
    """Notes of any scale in the order played -> Hz: 'C3 E3 G3', '130.8, 163.5, 196.2', or steps of a tuning as ratios
    and cents, '1/1 5/4 702c', over the first entry where that is a frequency, else over one_hz. Raises JiyuuError."""
    entries = [entry for entry in re.split(r"[\s,;]+", text.strip()) if entry]
    found: list[float] = []
    for place, entry in enumerate(entries):
        step = _STEP.match(entry)
        if step is None:
            found.append(parse_frequency(entry))
            if place == 0:
                one_hz = found[0]
            continue
        if one_hz is None:
            raise JiyuuError(f"'{entry}' is a step over nothing; begin with the pitch under it, such as C3 5/4 3/2.")
        over, under, cents = step.groups()
        octaves = float(cents) / 1200 if cents is not None else _octaves_of(float(over), float(under))
        if abs(octaves) > WIDEST_OCTAVES:
            raise JiyuuError(f"'{entry}' is no step of a scale; type for example 5/4, 3/2, 2/1 or 702c.")
        found.append(one_hz * 2**octaves)
    return found


def _octaves_of(over: float, under: float) -> float:
    return math.log2(over / under) if over > 0 and under > 0 else math.inf


def parse_number(text: str) -> tuple[float, str]:
    """'4k7', '4.7k', '100n', '+3 dB', '20uA' -> (value in base units, unit). Raises JiyuuError with examples."""
    match = _NUMBER.match(text.strip())
    if not match:
        raise JiyuuError(f"'{text}' is not a number; type for example 4.7, 4k7, 100n, +3 dB or 0.5 V.")
    digits, scale, fraction, unit = match.groups()
    digits = digits.replace(",", ".").replace("−", "-")
    if fraction:
        if not scale or "." in digits:
            raise JiyuuError(f"'{text}' is not a number; type for example 4.7, 4k7, 100n, +3 dB or 0.5 V.")
        digits = f"{digits}.{fraction}"
    return float(digits) * _SCALES[scale], unit


def shown_hz(frequency_hz: float) -> str:
    """'812 Hz', '1.205 kHz': four significant digits."""
    if frequency_hz >= 1000:
        return f"{frequency_hz / 1000:#.4g} kHz"
    return f"{frequency_hz:#.4g} Hz".replace(". ", " ")


def in_thousands(value: float) -> str:
    """'500', '1k', '2.5k': as the ticks of a ruler have it."""
    return f"{value / 1000:.3g}k" if value >= 999.5 else f"{value:.3g}"


def signed(value: float, digits: int = 1) -> str:
    """'+3.1', '−8.4': a true minus sign, no '−0.0'."""
    rounded = round(value, digits)
    if rounded == 0:
        return f"{0:.{digits}f}"
    return f"{'+' if rounded > 0 else '−'}{abs(rounded):.{digits}f}"
