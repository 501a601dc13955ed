"""What to turn, which way, how much, and what will be left: from the converter model fitted to a tracking table."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.circuits.trims import RANGES, Trim, Trims, turns_for
from jiyuu.measurement.contexts import TrimTurn
from jiyuu.measurement.converter_fit import LN2, TOP_HZ, ConverterFit, fit_converter
from jiyuu.measurement.tracking import Span, Tracking, longest_spans_v, read_tracking

WORTH_CENTS = 0.5  # over the whole range: less than that is not worth a screwdriver
SCALES = np.linspace(-0.01, 0.01, 2001)


@dataclass(frozen=True, slots=True, eq=False)
class Advice:
    """turns in the order in which to make them; before: the table as it is; after: as it should read then, by the
    model, with its largest error and usable span; leaks: whether leakage holds up the bottom, which no trim mends."""

    turns: tuple[TrimTurn, ...]
    before: Tracking
    after: Tracking
    fit: ConverterFit

    @property
    def leaks(self) -> bool:
        leak = self.fit.leak_cents
        return leak is not None and leak.value > max(leak.uncertainty, 1.0)

    def turned(self, trims: Trims) -> Trims:
        """Where the trims stand when the advice has been followed."""
        for turn in self.turns:
            trims = trims.turned(Trim(turn.trim), turn.turns)
        return trims


def advise(
    tracking: Tracking, *, target_hz: float | None = None, trims: Trims | None = None, has_hf_trim: bool = True,
    pitch_ratio: float = 1.0,
) -> Advice:
    """target_hz: what the reference step should give, for the offset trim. trims: where they stand, so that none is
    asked to go past its end. pitch_ratio: hertz of tone per hertz of pole."""
    readings = tracking.readings
    fit = fit_converter(readings, pitch_ratio=pitch_ratio)
    standing = trims or Trims()
    droop_per_hz, hf_turn = _hf(fit, standing, has_hf_trim, float(readings.frequency_hz.max()), pitch_ratio)
    scale_error = _best_scale(tracking, fit, droop_per_hz)
    # What the trims have left to go bounds what can be asked of them.
    asked = scale_error - fit.scale_error.value
    scale = _bounded(Trim.SCALE, 100 * asked, standing)
    scale_error = fit.scale_error.value + scale / 100
    octaves = float(np.ptp(np.log2(readings.frequency_hz)))
    turns = []
    if hf_turn:
        turns.append(TrimTurn(Trim.HIGH_FREQUENCY.value, hf_turn, turns_for(Trim.HIGH_FREQUENCY, hf_turn)))
    if abs(scale) * 12 * octaves > WORTH_CENTS:
        turns.append(TrimTurn(Trim.SCALE.value, scale, turns_for(Trim.SCALE, scale),
                              scale_v_per_octave=tracking.scale_v_per_octave.value))
    else:
        scale_error = fit.scale_error.value
    moved = 0.0
    if target_hz is not None:
        at = int(np.flatnonzero(np.abs(readings.volts - tracking.reference_v) < 1e-9)[0])
        then = fit.cents(readings.volts[[at]], scale_error=scale_error, droop_per_hz=droop_per_hz)[0]
        wanted = _bounded(Trim.OFFSET, float(1200 * np.log2(target_hz) - then), standing)
        if abs(wanted) > WORTH_CENTS:
            moved = wanted
            turns.append(TrimTurn(Trim.OFFSET.value, moved, turns_for(Trim.OFFSET, moved)))
    after = _after(tracking, fit, scale_error, droop_per_hz, moved)
    if turns and not _better(after, tracking):
        # The offset moves every note alike: a matter of pitch, not of tracking.
        turns = [turn for turn in turns if turn.trim == Trim.OFFSET.value]
        after = tracking
    return Advice(tuple(turns), tracking, after, fit)


def resonance_turn(onset_gain: float, aimed_gain: float, trims: Trims, *, aimed_percent: float) -> TrimTurn | None:
    """The resonance trim so that the whistle begins at a better place of the control: onset_gain is the drawing's loop
    gain where it begins now, aimed_gain where it should (at aimed_percent); None where less than a quarter turn would
    do."""
    amount = _bounded(Trim.RESONANCE, 100 * (onset_gain / aimed_gain - 1), trims)
    turns = turns_for(Trim.RESONANCE, amount)
    return None if abs(turns) < 0.25 else TrimTurn(Trim.RESONANCE.value, amount, turns, aimed_percent=aimed_percent)


def _hf(fit: ConverterFit, standing: Trims, has_hf_trim: bool, top_hz: float, ratio: float) -> tuple[float, float]:
    """Droop after the high-frequency trim, and what to turn it by in cents at 10 kHz."""
    found = fit.droop_cents
    if found is None or not has_hf_trim:
        return fit.droop_per_hz, 0.0
    # At the top of what was measured it must be sure, and worth it.
    share = top_hz / (TOP_HZ * ratio)
    if abs(found.value) < found.uncertainty or abs(found.value) * share < WORTH_CENTS:
        return fit.droop_per_hz, 0.0
    amount = _bounded(Trim.HIGH_FREQUENCY, found.value, standing)
    return fit.droop_per_hz - amount * LN2 / 1200 / (TOP_HZ * ratio), amount


def _bounded(trim: Trim, amount: float, standing: Trims) -> float:
    turned = standing.turned(trim, turns_for(trim, amount))
    return (turned[trim] - standing[trim]) * RANGES[trim].per_turn


def _best_scale(tracking: Tracking, fit: ConverterFit, droop_per_hz: float) -> float:
    """True scale where that leaves everything well inside; otherwise, of those with the longest usable span, the one
    with the least error, so that a turn not quite met still lands inside."""
    volts = tracking.readings.volts
    at = int(np.flatnonzero(np.abs(volts - tracking.reference_v) < 1e-9)[0])
    true = fit.cents(volts, scale_error=0.0, droop_per_hz=droop_per_hz) + fit.left_cents
    # A little more scale adds as many cents for every volt: near enough for choosing.
    errors = true - 1200 * volts
    errors = errors - errors[at]
    table = errors[None, :] + 1200 * SCALES[:, None] * (volts - volts[at])[None, :]
    if np.abs(table[SCALES.size // 2]).max() <= 0.5 * tracking.tolerance_cents:
        return 0.0
    order = np.argsort(volts, kind="stable")
    inside = np.abs(table[:, order]) <= 0.9 * tracking.tolerance_cents  # a trim is never set to the last cent
    spans = longest_spans_v(volts[order], inside)
    longest = np.flatnonzero(spans >= spans.max() - 1e-9)
    # Steps that are far out at any scale must not outweigh those that can be brought in.
    size = np.mean(np.minimum(np.abs(table[longest]), 2 * tracking.tolerance_cents) ** 2, axis=1)
    return float(SCALES[longest[np.argmin(size)]])


def _after(tracking: Tracking, fit: ConverterFit, scale_error: float, droop_per_hz: float, moved: float) -> Tracking:
    readings = tracking.readings
    cents = fit.cents(readings.volts, scale_error=scale_error, droop_per_hz=droop_per_hz, moved_cents=moved)
    then = replace(readings, frequency_hz=2 ** ((cents + fit.left_cents) / 1200))
    return read_tracking(then, reference_v=tracking.reference_v, tolerance_cents=tracking.tolerance_cents)


def _better(after: Tracking, before: Tracking) -> bool:
    """A longer usable span, or the same with an error less by what is worth turning for."""
    longer = span_v(after.usable) - span_v(before.usable)
    return longer > 0 or (longer == 0 and after.worst_cents < before.worst_cents - WORTH_CENTS)


def span_v(span: Span | None) -> float:
    """Volts of a span, −1 where no step is inside: that is less than one step alone."""
    return -1.0 if span is None else span.volts
