"""Which pitch a step has, when it is not the plain one: a harmonic louder than its fundamental, vibrato, an octave that
comes and goes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.steady_pieces import HOP_S, Piece, pitch_track
from jiyuu.measurement.step_lines import MOST_DIVISOR, Divided, divided, on_a_line
from jiyuu.measurement.step_tone import SMOOTHED_S, StepTone, step_tone, turned_down
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.running import running_median
from jiyuu.signals.transforms import next_fast_len, rfft

TOLERANCE = 0.012  # how far a partial may lie from a whole multiple
VIBRATO_HZ = (1.5, 14.0)
SWAYING_PERIODS = 12.0  # smoothed over: a high pitch may sway far in Hz
LEAST_DEPTH_CENTS = 1.5
MOST_RATES, NEAR_RATES = 400, 5.0  # tried at once; on either side of the strongest
CLEARLY, FEW_SWINGS, CLEARLY_OF_FEW = 6.0, 3.0, 30.0  # of the squares by it; a pitch that wanders swings once or twice
CALM_S = 0.3
FEWEST_STEPS = 3  # that make a line
ON_LINE_OCTAVES, OFF_LINE_OCTAVES = 0.1, 0.3
SAME_CENTS = 70.0
SHORTEST = 0.3  # of the usual length: shorter ones are no steps
GAP_DB = 36.0
OCTAVE_CENTS = 40.0
FEWEST_HOPS = 8
STANDS = 0.8  # of a step, over which its pitch must stand to be taken for one without jumps


def on_one_harmonic(tones: Sequence[StepTone], found: Sequence[Divided], volts: FloatArray) -> list[int]:
    """The divisor of every step: its own, unless another puts it onto the line that most steps make over their volts
    (Theil 1950, Proceedings of the Royal Netherlands Academy of Sciences)."""
    own = np.array([one.divisor for one in found])
    octaves = np.log2([tone.frequency_hz.value for tone in tones])
    if volts.size != own.size or volts.size < FEWEST_STEPS:
        return list(own)
    pitch, (i, j) = octaves - np.log2(own), np.triu_indices(volts.size, 1)
    apart = volts[i] != volts[j]
    slope = float(np.median((pitch[i] - pitch[j])[apart] / (volts[i] - volts[j])[apart]))
    middle = float(np.median(pitch - slope * volts))
    left = np.abs(octaves[:, np.newaxis] - np.log2(np.arange(1, MOST_DIVISOR + 1)) - (slope * volts + middle)[
        :, np.newaxis])  # by step and divisor
    best = left.argmin(axis=1)
    steps = np.arange(volts.size)
    better = (left[steps, best] < ON_LINE_OCTAVES) & (left[steps, own - 1] > OFF_LINE_OCTAVES)
    return [int(one) for one in np.where(better, best + 1, own)]


def without_vibrato(
    recording_v: FloatArray, sample_rate_hz: float, tone: StepTone, reach_s: tuple[float, float] | None = None
) -> tuple[StepTone, Notice | None]:
    """The step about the centre of its vibrato, and what there is of it; as it was where there is none. reach_s: how
    far the step's sound reaches, which a steady part of it does not."""
    start_s, stop_s = reach_s or (tone.start_s, tone.stop_s)
    hertz = tone.frequency_hz.value
    vector = turned_down(recording_v, sample_rate_hz, Piece(start_s, stop_s, hertz, 0.0),
                         divided(recording_v, sample_rate_hz, tone.start_s, tone.stop_s, hertz).divisor,
                         min(SMOOTHED_S, SWAYING_PERIODS / hertz))
    if vector is None:
        return tone, None
    inside = vector.sound & (vector.time_s > start_s) & (vector.time_s < stop_s)
    if inside.sum() < 24:
        return tone, None
    t, phase = vector.time_s[inside], vector.phase[inside]
    t = t - t.mean()
    span = float(np.ptp(t))
    rates = np.arange(max(VIBRATO_HZ[0], 1.6 / span), VIBRATO_HZ[1], 0.1 / max(span, 0.2))
    if not rates.size:
        return tone, None
    plain = np.stack([np.ones_like(t), t, t * t], axis=1)
    if rates.size > MOST_RATES:  # of a long tone only those about the strongest line
        rates = rates[np.abs(rates - _strongest_rate(t, phase, plain, (rates[0], rates[-1]))) < NEAR_RATES * (
            rates[1] - rates[0])]
    before, *_ = np.linalg.lstsq(plain, phase, rcond=None)
    rest = phase - plain @ before
    without = float(np.sum(rest**2))
    rate = float(rates[np.argmax(_explained(t, rest, plain, rates))])
    design = np.column_stack([plain, np.cos(2 * np.pi * rate * t), np.sin(2 * np.pi * rate * t)])
    answer, *_ = np.linalg.lstsq(design, phase, rcond=None)
    left = float(np.sum((phase - design @ answer) ** 2))
    swing = float(np.hypot(answer[3], answer[4]))
    depth = 1200 / np.log(2) * swing * rate / vector.rough_hz
    clear = CLEARLY if rate * span > FEW_SWINGS else CLEARLY_OF_FEW
    if depth < LEAST_DEPTH_CENTS or without < clear * left + 1e-12:
        return tone, None
    noise = float(np.sqrt(left / max(t.size - 5, 1)))
    hertz = vector.rough_hz + float(answer[1]) / (2 * np.pi)
    # The sway is no pure sine, and a span of no whole number of them leans by its own share.
    doubt = COVERAGE * noise / (2 * np.pi * float(np.sqrt(np.sum(t * t)))) * 2
    doubt += 0.05 * depth * np.log(2) / 1200 * hertz / max(rate * span, 1.0)
    notice = Notice(Fault.VIBRATO, tone.start_s, {"rate_hz": rate, "depth_cents": depth})
    return replace(tone, frequency_hz=Uncertain(hertz, max(doubt, 1e-6 * hertz))), notice


def _explained(t: FloatArray, rest: FloatArray, plain: FloatArray, rates: FloatArray) -> FloatArray:
    """(r,) how much of the square of what a parabola leaves (n,) a sine of each rate takes away besides it."""
    turn = 2 * np.pi * rates[:, np.newaxis] * t
    span, _ = np.linalg.qr(plain)
    cosine, sine = (wave - wave @ span @ span.T for wave in (np.cos(turn), np.sin(turn)))
    cc, ss, cs = (np.einsum("rn,rn->r", *two) for two in ((cosine, cosine), (sine, sine), (cosine, sine)))
    c, s = cosine @ rest, sine @ rest
    return np.asarray((ss * c * c - 2 * cs * c * s + cc * s * s) / np.maximum(cc * ss - cs * cs, 1e-12 * t.size**2))


def _strongest_rate(t: FloatArray, phase: FloatArray, plain: FloatArray, band_hz: tuple[float, float]) -> float:
    """Of what a parabola leaves of a phase (n,)."""
    rest = phase - plain @ np.linalg.lstsq(plain, phase, rcond=None)[0]
    even = np.linspace(t[0], t[-1], t.size)
    size = next_fast_len(4 * t.size)
    power = np.abs(rfft(np.interp(even, t, rest), size))
    hertz = np.arange(power.size) / (size * (even[1] - even[0]))
    return float(hertz[np.argmax(np.where((hertz >= band_hz[0]) & (hertz <= band_hz[1]), power, 0.0))])


def swaying_steps(
    recording_v: FloatArray, sample_rate_hz: float, count: int
) -> tuple[list[StepTone], list[Notice]] | None:
    """As many steps as asked for where the pitch within them sways or jumps by octaves: by its median over a third of a
    second. None where there are not so many."""
    cents, level_db = pitch_track(recording_v, sample_rate_hz)
    if cents.size < count:
        return None
    calm = running_median(cents, round(CALM_S / HOP_S) | 1, "edge")
    loud = level_db > float(np.quantile(level_db, 0.9)) - GAP_DB
    runs: list[list[int]] = []
    for i in np.flatnonzero(loud):
        if runs and i - runs[-1][1] <= 2 and abs(calm[i] - np.median(calm[runs[-1][0] : runs[-1][1]])) < SAME_CENTS:
            runs[-1][1] = int(i) + 1
        else:
            runs.append([int(i), int(i) + 1])
    if not runs:
        return None
    usual = float(np.quantile([b - a for a, b in runs], 0.8))
    runs = [run for run in runs if run[1] - run[0] > 0.08 * usual]
    notices: list[Notice] = []
    runs = _octaves_joined(runs, calm, usual, count, notices)
    runs = [run for run in runs if run[1] - run[0] > SHORTEST * usual]
    if len(runs) != count:
        return None
    tones = []
    for start, stop in runs:
        own = calm[start:stop]
        hertz = float(2 ** (np.median(own) / 1200))
        inside = np.flatnonzero(np.abs(own - np.median(own)) < SAME_CENTS)
        a, b = (start + int(inside[0]) + 6) * HOP_S, (start + int(inside[-1]) - 4) * HOP_S
        if b - a < 0.08:
            return None
        spread = float(np.std(cents[start:stop][inside])) / np.sqrt(max((b - a) * 2, 1.0))
        size = float(np.sqrt(2) * 10 ** (np.median(level_db[start:stop]) / 20))
        doubt = hertz * np.log(2) / 1200 * max(spread, 0.05)
        piece = on_a_line(recording_v, sample_rate_hz, Piece(a, b, hertz, float(np.median(level_db[start:stop]))))
        hertz = piece.frequency_hz
        steady = step_tone(recording_v, sample_rate_hz, piece)
        rough = StepTone(a, b, Uncertain(hertz, doubt), size, 0.0)
        alike = steady is not None and abs(1200 * np.log2(steady.frequency_hz.value / hertz)) < SAME_CENTS
        long = steady is not None and steady.stop_s - steady.start_s > 0.5 * (b - a)
        tones.append(steady if steady is not None and alike and long else rough)
        if steady is not None and alike and steady.stop_s - steady.start_s > STANDS * (stop - start) * HOP_S:
            # Where the pitch stands all the time only its track has jumped, from one partial to another.
            notices[:] = [n for n in notices if not start * HOP_S <= (n.at_s or 0.0) <= stop * HOP_S]
            continue
        jumped = np.flatnonzero(np.abs(np.abs(cents[start:stop] - calm[start:stop]) - 1200) < OCTAVE_CENTS)
        if jumped.size >= FEWEST_HOPS and not any(start * HOP_S <= (n.at_s or 0.0) <= stop * HOP_S for n in notices):
            notices.append(Notice(Fault.OCTAVE_JUMP, (start + int(jumped[0])) * HOP_S))
    return tones, notices


def _octaves_joined(
    runs: list[list[int]], calm: FloatArray, usual: float, count: int, notices: list[Notice]
) -> list[list[int]]:
    """Neighbours without a gap that are an octave apart and together one step, the longer's pitch kept."""
    joined = list(runs)
    i = 0
    while len(joined) > count and i + 1 < len(joined):
        one, other = joined[i], joined[i + 1]
        pitch = [float(np.median(calm[a:b])) for a, b in (one, other)]
        apart = abs(abs(pitch[0] - pitch[1]) - 1200)
        together = other[0] - one[1] < 0.04 / HOP_S and other[1] - one[0] < 1.35 * usual
        if together and notices and abs(pitch[0] - pitch[1]) < SAME_CENTS:
            joined[i : i + 2] = [[one[0], other[1]]]
            continue
        if together and apart < OCTAVE_CENTS:
            notices.append(Notice(Fault.OCTAVE_JUMP, other[0] * HOP_S))
            longer = one if one[1] - one[0] >= other[1] - other[0] else other
            calm[one[0] : other[1]] = np.median(calm[longer[0] : longer[1]])
            joined[i : i + 2] = [[one[0], other[1]]]
            continue
        i += 1
    return joined
