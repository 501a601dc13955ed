"""What a waveform says of its own recording: flat tops, steps too coarse for it, and what of it was recorded."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.signals.long_record import Record

NEARLY = 0.9999  # of full scale, counted as standing at it
FLAT_SAMPLES = 3  # equal samples at the top that are no chance any more
FEWEST_RUNS = 2
ABRUPT = 4.0  # how much further than a rounded top's the samples beside a flat one lie
NEAR_TOP = 2e-4  # of the peak: samples so near to each other count as equal where noise lies on a flat top
COARSE = 100.0  # the recording's RMS over its step: finer ones leave an error under that of usual noise
OFF_S = 0.02  # of one value over and over, that was never recorded
CELL_S, FEWEST_CELLS = 0.02, 5  # looked at together; that a sound lasts at least to be taken alone
SOUNDS, SWOLLEN = 0.3, 0.98  # of the level where it is loudest, of that which it mostly has
FORETOLD = 12  # samples that tell the next one of six rings


def clipping(record_v: FloatArray, noise_v: float = 0.0) -> tuple[Notice | None, NDArray[np.bool_]]:
    """Flat tops: (the notice, which samples are flat (n,)). A rounded top that is merely coarse is none: beside it the
    next samples are as near as its own rounding makes them, beside a flat one they are far. noise_v: RMS of what may
    lie on a flat top."""
    flat = np.zeros(record_v.size, dtype=bool)
    step = step_of(record_v) or 0.0
    runs = 0
    for sign in (1.0, -1.0):
        wave = sign * record_v
        top = float(wave.max())
        if top <= 0:
            continue
        for near in (1.01 * step + 1e-9 * top, NEAR_TOP * top + step, 6 * noise_v + step):
            inside = wave > top - near
            edges = np.flatnonzero(np.diff(np.concatenate([[0], inside.view(np.int8), [0]])))
            starts, stops = edges[::2], edges[1::2]
            long = stops - starts >= FLAT_SAMPLES
            whole = long & (starts > 0) & (stops < wave.size)
            first, last = starts[whole], stops[whole]
            if not first.size:
                continue
            half = (last - first) / 2
            beside = np.minimum(top - wave[first - 1], top - wave[np.minimum(last, wave.size - 1)])
            rounded = near * ((half + 1.5) / np.maximum(half - 0.5, 0.5)) ** 2
            abrupt = beside > ABRUPT * rounded
            if abrupt.sum() >= FEWEST_RUNS and abrupt.mean() > 0.3:
                runs += int(abrupt.sum())
                for a, b in zip(first[abrupt], last[abrupt], strict=True):
                    flat[a:b] = True
                break
    if not runs:
        return None, flat
    return Notice(Fault.CLIPPED, None, {"share_percent": 100 * float(flat.mean())}), flat


def piled_up(
    record_v: FloatArray, noise_v: float, *, fewest: int = 8, piled: float = 3.0, longest: int | None = None,
    played: int = 1,
) -> tuple[Notice | None, NDArray[np.bool_]]:
    """Of noise, and of what swings too fast for three samples in a row: as clipping has it. Peaks of noise
    grow rarer and rarer the higher they are, and of those of a sine hardly more than two thirds end in the higher half
    of a layer; where they are cut off, nearly all of the topmost are of one height. noise_v: RMS of what may lie on
    them; fewest: such peaks; piled: re those that end as far below; longest: samples that a peak may last to count;
    played: how often the same was, which has the same peaks every time."""
    flat = np.zeros(record_v.size, dtype=bool)
    step = step_of(record_v) or 0.0
    for sign in (1.0, -1.0):
        wave = sign * record_v
        top = float(wave.max())
        near = 6 * noise_v + step + NEAR_TOP * abs(top)
        highest = wave > top - near
        # A slow peak passes the line many times by its noise, but seldom falls as far again.
        edges = np.flatnonzero(np.diff(np.concatenate([[0], (wave > top - 2 * near).view(np.int8), [0]])))
        starts, stops = edges[::2], edges[1::2]
        if longest is not None:
            short = stops - starts <= longest
            starts, stops = starts[short], stops[short]
        passed = np.concatenate([[0], np.cumsum(highest)])
        reaching = int(np.count_nonzero(passed[stops] > passed[starts]))
        if reaching > max(fewest * played, piled * (starts.size - reaching)):
            flat |= highest
    share = float(flat.mean())
    return (Notice(Fault.CLIPPED, None, {"share_percent": 100 * share}) if share else None), flat


def at_full_scale(record_v: FloatArray, full_scale_v: float) -> int | None:
    """The first of some samples in a row that stand at the recorder's end; None where none do. What is flat below it
    may be the unit's own doing, a square wave or its rails."""
    stands = np.abs(record_v) >= NEARLY * full_scale_v
    rows = np.flatnonzero(stands[:-2] & stands[1:-1] & stands[2:])
    return int(rows[0]) if rows.size and float(np.abs(record_v).max()) <= full_scale_v * 1.0001 else None


def record_at_full_scale(record: Record, full_scale_v: float) -> tuple[int, float] | None:
    """The same of a record of any length, with the share of its samples that stand there."""
    first, count, start = None, 0, 0
    for block in record.blocks():
        if float(np.abs(block).max()) > full_scale_v * 1.0001:
            return None  # a recorder that goes past its end has none
        if first is None:
            found = at_full_scale(record.read(start - 2, start + block.size), full_scale_v)
            first = None if found is None else start - 2 + found
        count += int(np.sum(np.abs(block) >= NEARLY * full_scale_v))
        start += block.size
    return None if first is None else (first, count / record.size)


def step_of(record_v: FloatArray) -> float | None:
    """The step between its possible values in volts, None where there is none to be seen (floats)."""
    some = np.unique(record_v[:: max(record_v.size // 200_000, 1)])
    if some.size < 2:
        return None
    apart = np.diff(some)
    least = float(apart.min())
    if least <= 0:
        return None
    places = (some - some[some.size // 2]) / least
    whole = np.abs(places - np.round(places))
    return least if float(whole.max()) < 0.02 and np.abs(places).max() < 2**25 else None


def rounded_v(size_v: FloatArray | float, noise_v: float, step_v: float) -> FloatArray:
    """By how much rounding to steps may move a line of that size: by half a step where it is smaller than one, as the
    Bessel function of so many steps falls off where it is larger, and less by noise, which rounds it up as often as
    down (Widrow 1956, IRE Trans. Circuit Theory). noise_v: RMS, with what rounding itself adds to it."""
    size = np.asarray(size_v, dtype=float)
    if not step_v:
        return np.zeros_like(size)
    noise_in_steps = max((noise_v / step_v) ** 2 - 1 / 12, 0.0)
    return np.asarray(0.5 * step_v * np.exp(-2 * np.pi**2 * noise_in_steps) / np.sqrt(1 + 6 * size / step_v))


def quantisation(record_v: FloatArray, loud: slice) -> tuple[float, Notice | None]:
    """(step in volts, 0 where there is none; a notice where what sounds in `loud` is of hardly more than a few)."""
    step = step_of(record_v)
    if step is None:
        return 0.0, None
    level = float(np.sqrt(np.mean(record_v[loud] ** 2)))
    if level > COARSE * step:
        return step, None
    return step, Notice(Fault.QUANTISED, None, {"steps": level / step})



def recorded_part(recording_v: FloatArray, sample_rate_hz: float) -> slice:
    """All but what a recorder that opened late, a gate or an editor left at the ends: one value over and over."""
    least = round(OFF_S * sample_rate_hz)
    moves = np.flatnonzero(np.diff(recording_v))
    if not moves.size:
        return slice(0, recording_v.size)
    start, stop = int(moves[0]) + 1, int(moves[-1]) + 1
    return slice(start if start > least else 0, stop if recording_v.size - stop > least else recording_v.size)


def noise_beside_v(piece: FloatArray) -> float:
    """RMS of what no sum of a few rings accounts for: what each sample is off from what those before it lead to
    expect; 0 of a piece that is too short to tell."""
    if piece.size < 4 * FORETOLD:
        return 0.0
    rows = np.lib.stride_tricks.sliding_window_view(piece - piece.mean(), FORETOLD + 1)
    weights, *_ = np.linalg.lstsq(rows[:, :-1], rows[:, -1], rcond=None)
    return float(np.std(rows[:, -1] - rows[:, :-1] @ weights))


def sounding_part(recording_v: FloatArray, sample_rate_hz: float) -> slice:
    """All but what lies ahead of a steady sound and behind it and is far softer; everything where nothing is."""
    cell = round(CELL_S * sample_rate_hz)
    count = recording_v.size // cell if cell else 0
    if count < FEWEST_CELLS:
        return slice(0, recording_v.size)
    cells = recording_v[: count * cell].reshape(count, cell)
    level = np.sqrt(np.maximum(np.einsum("ij,ij->i", cells, cells) / cell - cells.mean(axis=1) ** 2, 0.0))
    loud = np.flatnonzero(level > SOUNDS * np.percentile(level, 95))
    first, last = (int(loud[0]), int(loud[-1])) if loud.size else (0, count - 1)
    # Where it begins or ends in the recording it swells or dies: not steady until it is as loud as it mostly is.
    steady = np.flatnonzero(level[first : last + 1] > SWOLLEN * np.median(level[first : last + 1])) + first
    start = (int(steady[0]) + 1) * cell if first else 0
    stop = int(steady[-1]) * cell if last < count - 1 else recording_v.size
    return slice(start, stop) if stop - start >= FEWEST_CELLS * cell else slice(0, recording_v.size)
