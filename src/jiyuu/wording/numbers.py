"""Numbers of findings as words: how many digits a number deserves."""

from __future__ import annotations

import math

from jiyuu.measurement.finding import Finding
from jiyuu.quantities import note_and_cents, shown_hz, signed


def doubt_text(finding: Finding, digits: int, scale: float = 1.0) -> str:
    """' ± 0.03', or nothing where no uncertainty is known. scale: of the unit it is said in."""
    if finding.uncertainty is None:
        return ""
    # One significant digit more than the number would promise too much; never print ± 0.
    shown = max(scale * finding.uncertainty, 10.0**-digits / 2)
    places = max(digits, 0)
    text = f"{shown:.{places}f}"
    return f" ± {10.0**-digits:.{places}f}" if float(text) == 0 else f" ± {text}"


def one_digit(number: float) -> str:
    """One significant digit, rounded up, never with an exponent."""
    if not number > 0.001:
        return "0.001"
    place = math.floor(math.log10(number))
    rounded = math.ceil(number / 10.0**place - 1e-9) * 10.0**place
    place = math.floor(math.log10(rounded) + 1e-9)  # 0.0096 becomes 0.01, not 0.010
    return f"{rounded:.{max(-place, 0)}f}"


def two_digits(number: float) -> str:
    """Two significant digits, never with an exponent."""
    if number < 0.001:
        return "under 0.001"
    return f"{number:.0f}" if number >= 99.5 else f"{float(f'{number:.2g}'):g}" if number >= 0.01 else f"{number:.3f}"


def three_digits(number: float) -> str:
    return f"{number:.0f}" if number >= 100 else f"{number:.3g}"


def ends_text(low: float, high: float) -> str:
    """'−21.3 … 0.0': both to the place of three digits of the larger one."""
    largest = max(abs(low), abs(high))
    places = max(2 - math.floor(math.log10(largest)), 0) if largest else 0
    return " … ".join(f"{round(end, places) + 0.0:.{places}f}".replace("-", "−") for end in (low, high))


def signed_digits(value: float) -> str:
    """'+4.77' or '−18.2': three digits with their sign."""
    return ("−" if value < 0 else "+") + three_digits(abs(value))


def with_doubt(value: float, uncertainty: float | None, digits: int) -> str:
    """'−3.1 ± 0.2': both to the same place, so many digits after the point or, where the uncertainty would hardly be
    seen with them, one more; the value alone where none is known."""
    if uncertainty is None:
        return signed(value, digits)
    places = digits if uncertainty >= 0.5 * 10.0**-digits else digits + 1
    return f"{signed(value, places)} ± {max(uncertainty, 10.0**-places):.{places}f}"  # never ± 0


def level_text(finding: Finding) -> str:
    """'−3.1 ± 0.2 dB'."""
    return f"{with_doubt(finding.value, finding.uncertainty, 1)} dB"


def hertz_text(finding: Finding) -> str:
    """'812 Hz ± 0.02 % (G#5 −39 cents)'."""
    note, cents = note_and_cents(finding.value)
    doubt = ""
    if finding.uncertainty is not None:
        doubt = f" ± {one_digit(100 * finding.uncertainty / finding.value)} %"
    return f"{shown_hz(finding.value)}{doubt} ({note} {signed(cents, 0)} cents)"


def percent_text(percent: float) -> str:
    return f"{percent:.0f} %"


def stated(value: float, uncertainty: float | None) -> str:
    """'812.34 ± 0.05': as many places as the uncertainty has digits that say something, two of them where it begins
    with 1 or 2; five digits where none is known."""
    if uncertainty is None or not math.isfinite(uncertainty) or uncertainty <= 0:
        return f"{value + 0.0:.5g}".replace("-", "−")
    place = math.floor(math.log10(uncertainty))
    places = min(max(-place + (uncertainty / 10.0**place < 3), 0), 9)
    return f"{round(value, places) + 0.0:.{places}f} ± {uncertainty:.{places}f}".replace("-", "−")  # no −0
