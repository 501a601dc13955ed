"""Products that two tones leave behind a filter, in a record of both (difference-frequency distortion, IEC 60268-3).

Every product up to the seventh order is fitted together with the tones (least squares), so that none of them need fit
into the record; what the noise around a line adds to it is taken off again.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.transforms import rfft
from jiyuu.signals.two_tones import TwoTones

HIGHEST_ORDER = 7  # of products that are told apart
HIGHEST_SHARE = 0.45  # of the rate
TOO_NEAR_S = 2.0  # over the record's length: lines nearer than that cannot be told apart
AROUND_BINS, OF_A_LINE = 60, 6  # where the noise is read, and what of it belongs to a line
MEDIAN_SHARE = np.log(2)  # of the mean, of a power that is exponentially distributed
ROUNDED = 1e-6  # of both tones, by which arithmetic and clocks may move a line
AT_ONCE = 8192  # samples, of which all lines fit into what a processor keeps at hand
MOST_LEFT = 0.4  # share of all power that may be anything but lines, where they are what was played


@dataclass(frozen=True, slots=True)
class Products:
    """In % of the sum of both tones: U(f₂ − f₁), and U(2f₁ − f₂) + U(2f₂ − f₁)."""

    tones: TwoTones
    second_percent: Uncertain
    third_percent: Uncertain
    left_share: float  # of all power, that is none of their products

    @property
    def there(self) -> bool:
        """Whether these two tones are what was played."""
        return self.left_share <= MOST_LEFT


def products_of(record_v: FloatArray, sample_rate_hz: float, tones: TwoTones, *, clock: float = 1.0) -> Products:
    """record_v (n,) of both, settled; clock: frequencies as recorded over those that were played. Raises
    MeasurementError where a product of theirs lies past what the rate holds."""
    if tones.third_hz[1] > HIGHEST_SHARE * sample_rate_hz:
        raise MeasurementError(f"The product at {tones.third_hz[1]:.0f} Hz lies past what {sample_rate_hz:g} Hz holds; "
                               "record at a higher rate, or play two tones nearer to each other.")
    hertz, lines, left = _fitted(record_v, sample_rate_hz, tones, clock)
    power = float(np.mean((record_v * np.hanning(record_v.size)) ** 2))
    left_share = float(np.mean(left**2)) / max(power, 1e-300)

    def place(of_hz: float) -> int:
        return int(np.argmin(np.abs(hertz - of_hz)))

    wanted = [place(one) for one in (tones.low_hz, tones.high_hz, tones.difference_hz, *tones.third_hz)]
    whole = float(np.abs(lines[wanted[0]]) + np.abs(lines[wanted[1]]))
    spread = np.hypot(_spread(left, sample_rate_hz, hertz * clock, [hertz[one] * clock for one in wanted]),
                      ROUNDED * whole)
    share = COVERAGE * float(np.hypot(spread[0], spread[1])) / whole
    second, *third = (_size(float(np.abs(lines[one])), float(own))
                      for one, own in zip(wanted[2:], spread[2:], strict=True))

    def percent(value: float, doubt: float) -> Uncertain:
        return Uncertain(100 * value / whole, 100 * (doubt + share * value) / whole)

    return Products(tones, percent(second.value, second.uncertainty), percent(
        third[0].value + third[1].value, float(np.hypot(third[0].uncertainty, third[1].uncertainty))),
        left_share)


def _fitted(
    record_v: FloatArray, sample_rate_hz: float, tones: TwoTones, clock: float
) -> tuple[FloatArray, ComplexArray, FloatArray]:
    """(places (m,) Hz as played, peak volts of each with their phase (m,), what they leave (n,) under a window)."""
    duration_s = record_v.size / sample_rate_hz
    places = {0.0}
    for m in range(-HIGHEST_ORDER, HIGHEST_ORDER + 1):
        for n in range(-HIGHEST_ORDER, HIGHEST_ORDER + 1):
            hertz = abs(m * tones.low_hz + n * tones.high_hz)
            if abs(m) + abs(n) <= HIGHEST_ORDER and 0 < hertz < HIGHEST_SHARE * sample_rate_hz:
                places.add(round(hertz, 6))
    kept: list[float] = []
    for hertz in sorted(places):
        if not kept or hertz - kept[-1] > TOO_NEAR_S / duration_s:
            kept.append(hertz)
    window, lines = np.hanning(record_v.size), len(kept)
    omega = 2j * np.pi * clock * np.array(kept)
    within = np.exp(np.outer(np.arange(min(AT_ONCE, record_v.size)) / sample_rate_hz, omega))

    def stretches() -> Iterator[tuple[slice, ComplexArray]]:
        """Pieces of the record, one after the other, with all lines as they turn in each (k, m)."""
        for begin in range(0, record_v.size, AT_ONCE):
            part = slice(begin, min(begin + AT_ONCE, record_v.size))
            start_s = (begin - 0.5 * record_v.size) / sample_rate_hz
            yield part, within[: part.stop - begin] * np.exp(omega * start_s)

    normal, seen = np.zeros((2 * lines - 1, 2 * lines - 1)), np.zeros(2 * lines - 1)
    for part, turn in stretches():
        design = np.concatenate([turn.real, -turn.imag[:, 1:]], axis=1) * window[part, np.newaxis]
        normal += design.T @ design
        seen += design.T @ (record_v[part] * window[part])
    found = np.linalg.solve(normal, seen)
    peaks = found[:lines] + 1j * np.concatenate([[0.0], found[lines:]])
    left = np.concatenate([window[part] * (record_v[part] - (turn @ peaks).real) for part, turn in stretches()])
    return np.array(kept), peaks, left


def _spread(left: FloatArray, sample_rate_hz: float, lines_hz: FloatArray, at_hz: list[float]) -> FloatArray:
    """(k,) standard deviation of either part of a line, by what is left around it."""
    window = np.hanning(left.size)
    power = np.abs(rfft(left * window)) ** 2
    bins = lines_hz * left.size / sample_rate_hz
    free = np.ones(power.size, dtype=bool)
    for line in np.round(bins).astype(int):
        free[max(line - OF_A_LINE, 0) : line + OF_A_LINE + 1] = False
    found = []
    for hertz in at_hz:
        centre = round(hertz * left.size / sample_rate_hz)
        reach = AROUND_BINS
        while not free[max(centre - reach, 0) : centre + reach].any() and reach < power.size:
            reach *= 2
        around = slice(max(centre - reach, 0), centre + reach)
        found.append(float(np.median(power[around][free[around]])) / MEDIAN_SHARE if free[around].any() else 0.0)
    return np.sqrt(2 * np.array(found)) / float(np.sum(window**2))


def _size(size: float, spread: float) -> Uncertain:
    """Of a line, the noise's own share of it taken off."""
    square = size**2 - 2 * spread**2
    scatter = COVERAGE * float(np.sqrt(4 * max(square, 0.0) * spread**2 + 4 * spread**4))
    value, upper = np.sqrt(max(square, 0.0)), np.sqrt(max(square, 0.0) + scatter)
    lower = np.sqrt(max(square - scatter, 0.0))
    return Uncertain(float(value), float(max(upper - value, value - lower)))
