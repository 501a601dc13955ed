"""Mains hum as it is heard where nothing else sounds, found with its own pitch so that it can be taken out.

Hum that is locked to a rig is alike in every passage, and no difference between them shows it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.transforms import rfft

MAINS_HZ = (50.0, 60.0)
MAINS_REACH_HZ = 0.25
HARMONICS = 12
THINNED = 16  # samples put together before mains is looked for
TOLD_BY, FEWER = 3, 4  # harmonics that tell the mains' own pitch; of THINNED samples, that are put together for it
MOST_TRIED, LIKELY = 500, 6  # places that are tried for it; of those that are looked at closely
CLEAR_HUM = 8.0  # standard deviations of a line's amplitude
HARDLY = 0.4  # of that, at a pitch that is nearly right: less is none at the right one
LEAST_HUM = 3e-5  # re the recording's RMS: what is weaker moves nothing
FAINT, TELLS_TURNS = 0.3, 4.0  # re the same line once something has sounded; turns of it that tell its size
CELL_S = 0.05  # of a silence, in which it is about as loud
UNEVEN, EVENED = 2.5, 4  # times as loud a cell may be as a quiet one; times that louder ones are made less of
AS_BEFORE = 0.02  # share by which counts may differ and tell the same
DROWNS = 10.0  # times as loud, from which on nothing is told by it
STANDS_HZ = 1e-3
SHORTEST_S = 0.15  # of silence that tells
BLOCK = 1024  # samples that turn alike in every block


@dataclass(frozen=True, slots=True)
class Hum:
    """mains_hz as found; lines: harmonic, cosine and sine in volts, phase from sample 0; doubt_v: standard uncertainty
    of each of these, as they are at told_s; doubt_hz: of the pitch, by which they turn before and after."""

    mains_hz: float
    lines: tuple[tuple[int, float, float], ...]
    doubt_v: float = 0.0
    doubt_hz: float = 0.0
    told_s: float = 0.0

    def wave_v(self, count: int, sample_rate_hz: float, *, first: int = 0) -> FloatArray:
        """(count,) volts from sample `first` on."""
        peaks = [(n, a - 1j * b) for n, a, b in self.lines]
        return _waves(peaks, self.mains_hz / sample_rate_hz, first, count)

    def unsure_v(self, count: int, sample_rate_hz: float) -> tuple[FloatArray, FloatArray]:
        """(count,) volts each: lines of any phase as strong as what may be left of these; and what a pitch that is off
        by its standard uncertainty leaves of all of them."""
        lines = [(n, complex(np.sqrt(2) * self.doubt_v)) for n, _, _ in self.lines]
        drift = [(n, 2j * np.pi * n * self.doubt_hz * (a - 1j * b)) for n, a, b in self.lines]
        of_lines, of_pitch = (_waves(peaks, self.mains_hz / sample_rate_hz, 0, count) for peaks in (lines, drift))
        return of_lines, of_pitch * (np.arange(count) / sample_rate_hz - self.told_s)

    def at_clock(self, ppm: float) -> Hum:
        """As it is heard in a record that was brought to the player's clock, the recorder's being so fast."""
        return replace(self, mains_hz=self.mains_hz * (1 + 1e-6 * ppm), doubt_hz=self.doubt_hz * (1 + 1e-6 * ppm))

    @property
    def peak_v(self) -> float:
        return float(np.sqrt(sum(a * a + b * b for _, a, b in self.lines)))

    def off(self, other: Hum) -> float:
        """Share of another of the same lines by which they differ in size."""
        mine, its = ([np.hypot(a, b) for _, a, b in one.lines] for one in (self, other))
        return float(np.linalg.norm(np.subtract(mine, its))) / other.peak_v


@dataclass(frozen=True, slots=True, eq=False)
class Quiet:
    """What was recorded in silences, thinned: when (n,) s, v (n,) volts less their mean, counts (n,): how much each of
    them does; starts: the first sample of every silence."""

    when: FloatArray
    v: FloatArray
    counts: FloatArray
    starts: tuple[int, ...]
    sample_rate_hz: float

    @classmethod
    def of(cls, record_v: FloatArray, silences: Sequence[slice], sample_rate_hz: float) -> Quiet | None:
        """None where they are too short to tell."""
        pieces, times = [], []
        for part in silences:
            size = max(part.stop - part.start, 0) // THINNED * THINNED
            if size:
                pieces.append(record_v[part.start : part.start + size].reshape(-1, THINNED).mean(axis=1))
                times.append(part.start + 0.5 * (THINNED - 1) + THINNED * np.arange(size // THINNED))
        if sum(piece.size for piece in pieces) * THINNED < SHORTEST_S * sample_rate_hz:
            return None
        v = np.concatenate(pieces)
        starts = tuple(np.cumsum([0, *(piece.size for piece in pieces[:-1])]).tolist())
        return cls(np.concatenate(times) / sample_rate_hz, v - v.mean(), np.ones(v.size), starts,
                   sample_rate_hz / THINNED)

    @property
    def pieces(self) -> list[slice]:
        """Of every silence."""
        return [slice(a, b) for a, b in zip(self.starts, (*self.starts[1:], self.v.size), strict=True)]

    def fewer(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Of FEWER samples together: (volts less their mean, when, how much they count), all (m,)."""
        means = [np.concatenate([one[piece][: one[piece].size // FEWER * FEWER].reshape(-1, FEWER).mean(axis=1)
                                 for piece in self.pieces]) for one in (self.v, self.when, self.counts)]
        return means[0] - means[0].mean(), means[1], means[2]

    def lines(self, mains_hz: float) -> tuple[FloatArray, FloatArray, float]:
        """(cosines and sines by turns, what they leave (n,), by how much a line scatters)."""
        basis = _basis(self.when, mains_hz)
        weights, *_ = np.linalg.lstsq(basis * self.counts[:, np.newaxis], self.v * self.counts, rcond=None)
        left = np.asarray(self.v - basis @ weights)
        counted = left * self.counts
        noise = float(np.sqrt(counted @ counted / max(self.v.size - weights.size, 1)))
        # Neighbouring samples of low noise are alike: a line's scatter is that of the noise around it, not of all.
        share = _low_share(counted, self.sample_rate_hz)
        return np.asarray(weights), left, noise * float(np.sqrt(2 / (self.counts @ self.counts))) * share

    def pitch_told(self, weights: FloatArray, spread_v: float) -> tuple[float, float]:
        """(standard uncertainty of a pitch found by lines of these weights (2·h,), each known to spread_v; s at which
        they are as they are at any such pitch)."""
        counts = self.counts**2
        told_s = float(np.average(self.when, weights=counts))
        reach_s2 = float(np.average((self.when - told_s) ** 2, weights=counts))
        harmonic = np.repeat(np.arange(1, TOLD_BY + 1), 2)
        turns_v = 2 * np.pi * float(np.linalg.norm(harmonic * weights[: 2 * TOLD_BY]))
        return spread_v / max(turns_v * np.sqrt(reach_s2), 1e-300), told_s

    def evened(self, left_v: FloatArray) -> Quiet | None:
        """With less made of it where more is left (n,) than where it is quiet, as of a ring that dies away; None where
        it is about as loud everywhere."""
        size = max(round(CELL_S * self.sample_rate_hz), 1)
        loud = np.empty(self.v.size)
        for piece in self.pieces:
            for start in range(piece.start, piece.stop, size):
                cell = slice(start, min(start + size, piece.stop))
                loud[cell] = np.sqrt(np.mean(left_v[cell] ** 2))
        loud /= max(float(np.percentile(loud, 25)), 1e-30)
        if loud.max() < UNEVEN:
            return None
        # A ring that is far louder is no noise: it pulls a line and its pitch towards its own.
        counts = np.where(loud < DROWNS, 1 / np.maximum(loud, 1.0), 0.0)
        return replace(self, v=self.v - np.average(self.v, weights=counts**2), counts=counts)


def hum_in(
    record_v: FloatArray, silences: Sequence[slice], sample_rate_hz: float, known: Hum | None = None, *,
    wholly: bool = False,
) -> Hum | None:
    """Mains hum found where nothing else sounds; None where no line stands clear of the noise there. known: hum of the
    same mains, whose lines are there even where noise hides them; wholly: with those that do not stand clear, once one
    does."""
    quiet = Quiet.of(record_v, silences, sample_rate_hz)
    if quiet is None:
        return None
    least_v = LEAST_HUM * float(np.sqrt(np.mean(record_v**2)))
    quiet = quiet.evened(quiet.v) or quiet
    found, left_v = _looked_for(quiet, least_v, known, wholly)
    for _ in range(EVENED):
        evened = quiet.evened(left_v)
        if evened is None or (found is None and np.allclose(evened.counts, quiet.counts, rtol=AS_BEFORE)):
            break  # it would look at the same once more
        quiet, before = evened, found
        found, left_v = _looked_for(quiet, least_v, known, wholly)
        if found is not None and before is not None and abs(found.mains_hz - before.mains_hz) < STANDS_HZ:
            break
    return None if found is not None and known is None and _is_a_ring(found, quiet) else found


def _looked_for(quiet: Quiet, least_v: float, known: Hum | None, wholly: bool) -> tuple[Hum | None, FloatArray]:
    """(the hum, None where no line stands clear; what that leaves (n,))."""
    few, few_t, few_counts = quiet.fewer()
    best: tuple[float, Hum | None, FloatArray] = np.inf, None, quiet.v
    # Closer than a fifth of a turn over all of them, of the highest that tells it, one place is as good as the next;
    # farther apart the right one is missed, and one a turn beside it taken.
    turns = MAINS_REACH_HZ * TOLD_BY * float(np.ptp(quiet.when))
    coarse = int(np.clip(np.ceil(2 * turns / 0.2), 6, MOST_TRIED)) + 1
    apart = 2 * MAINS_REACH_HZ / (coarse - 1)
    for mains in MAINS_HZ if known is None else (known.mains_hz,):
        likely = [mains]
        # The silences lie seconds apart, which tells the mains to a few thousandths of a hertz; coarse first, and what
        # is next to the right one by a turn between silences may be as good until it is looked at closely.
        for reach, count in ((MAINS_REACH_HZ, coarse), (apart, 21), (0.1 * apart, 21))[0 if known is None else 1 :]:
            best_of = [_lowest(few, few_t, few_counts, near + reach * np.linspace(-1, 1, count)) for near in likely]
            likely = min(best_of)[1][: LIKELY if reach == MAINS_REACH_HZ else 1]
            hertz = likely[0]
            weights, left_v, spread = quiet.lines(hertz)
            if known is None and np.hypot(weights[0::2], weights[1::2]).max() < HARDLY * CLEAR_HUM * spread:
                break
        # The mean over a few samples takes a little of a line.
        kept = np.sinc(hertz * np.arange(1, HARMONICS + 1) / quiet.sample_rate_hz)
        weights = weights / np.repeat(kept, 2)
        size = np.hypot(weights[0::2], weights[1::2])
        clear = np.flatnonzero((size > CLEAR_HUM * spread) & (size > least_v)) if known is None else (
            np.array([harmonic - 1 for harmonic, _, _ in known.lines]))
        if wholly and clear.size:
            clear = np.arange(HARMONICS)
        lines = tuple((int(i) + 1, float(weights[2 * i]), float(weights[2 * i + 1])) for i in clear)
        counted = float(np.sum((left_v * quiet.counts) ** 2))
        if (lines and (best[1] is None or counted < best[0])) or (best[1] is None and counted < best[0]):
            best = counted, Hum(hertz, lines, spread, *quiet.pitch_told(weights, spread)) if lines else None, left_v
    return best[1:]


def _is_a_ring(hum: Hum, quiet: Quiet) -> bool:
    """Whether its strongest line is hardly there in the first of the silences, of those that are long enough to tell:
    mains hum all the time, a filter that swings at their pitch does only after it was played to."""
    strongest = hum.mains_hz * max(hum.lines, key=lambda line: np.hypot(line[1], line[2]))[0]
    long = [piece for piece in quiet.pieces if quiet.counts[piece].all()
            and piece.stop - piece.start > TELLS_TURNS / strongest * quiet.sample_rate_hz]
    if len(long) < 2:
        return False
    size, doubt = [], []
    for piece in long:
        basis, heard = _basis(quiet.when[piece], strongest, 1), quiet.v[piece] - quiet.v[piece].mean()
        weights, *_ = np.linalg.lstsq(basis, heard, rcond=None)
        size.append(float(np.hypot(*weights)))
        doubt.append(float(np.std(heard - basis @ weights)) * np.sqrt(2 / heard.size))
    return size[0] + 3 * doubt[0] < FAINT * max(size[1:])


def _waves(peaks: Sequence[tuple[int, complex]], turns: float, first: int, count: int) -> FloatArray:
    """(count,) from sample `first` on, of harmonics with complex peaks; turns: of the first of them, in a sample."""
    blocks = -(-count // BLOCK)
    starts, within = (np.exp(2j * np.pi * turns * np.arange(*span))
                      for span in ((first, first + blocks * BLOCK, BLOCK), (0, BLOCK)))
    once = np.multiply.outer(starts, within).ravel()[:count]
    by_number = dict(peaks)
    wave = np.zeros(count, dtype=complex)
    for harmonic in range(max(by_number), 0, -1):  # Horner's way
        wave += by_number.get(harmonic, 0.0)
        wave *= once
    return wave.real.copy()


def _basis(t: FloatArray, mains_hz: float, harmonics: int = HARMONICS) -> FloatArray:
    """(t.size, 2·harmonics) cosine and sine of each."""
    once = np.exp(2j * np.pi * mains_hz * t)
    turns = np.cumprod(np.broadcast_to(once[:, np.newaxis], (t.size, harmonics)), axis=1)
    return turns.view(float)


def _lowest(
    quiet: FloatArray, t: FloatArray, counts: FloatArray, mains_hz: FloatArray
) -> tuple[float, list[float]]:
    """(the least that any of evenly rising mains (n,) leaves, those that leave less than the ones beside them, the best
    first)."""
    left = np.array([np.inf, *_left(quiet, t, counts, mains_hz), np.inf])
    dips = np.flatnonzero((left[1:-1] <= left[:-2]) & (left[1:-1] <= left[2:]))
    between = np.zeros(dips.size)
    inner = (dips > 0) & (dips < mains_hz.size - 1)
    low, middle, high = (left[dips[inner] + k] for k in range(3))
    between[inner] = 0.5 * (low - high) / np.maximum(low - 2 * middle + high, 1e-300)  # of a parabola through them
    hertz = mains_hz[dips] + between * (mains_hz[1] - mains_hz[0])
    return float(left.min()), hertz[np.argsort(left[1:-1][dips])].tolist()


def _left(quiet: FloatArray, t: FloatArray, counts: FloatArray, mains_hz: FloatArray) -> list[float]:
    """What the first TOLD_BY harmonics leave at each of evenly rising mains (n,)."""
    quiet = quiet * counts
    once = np.exp(2j * np.pi * mains_hz[0] * t)
    further = np.exp(2j * np.pi * (mains_hz[1] - mains_hz[0]) * t)
    turns, left, whole = np.empty((TOLD_BY, t.size), dtype=complex), [], float(quiet @ quiet)
    for _ in mains_hz:
        np.multiply(once, counts, out=turns[0])
        for harmonic in range(1, TOLD_BY):
            np.multiply(turns[harmonic - 1], once, out=turns[harmonic])
        rows = np.concatenate([turns.real, turns.imag])
        pull = rows @ quiet
        left.append(whole - float(pull @ np.linalg.solve(rows @ rows.T, pull)))
        once *= further
    return left


def _low_share(left: FloatArray, sample_rate_hz: float) -> float:
    """How much stronger the noise is, per hertz, under a kilohertz than on the whole."""
    power = np.abs(rfft(left)) ** 2
    low = max(int(1000 / sample_rate_hz * left.size), 8)
    return max(1.0, float(np.sqrt(np.mean(power[:low]) / max(float(np.mean(power)), 1e-300))))
