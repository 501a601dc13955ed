"""A ring taken apart into what dies away: pole pairs and real poles by least squares, the amplitudes projected out.

First guesses are the shift-invariant ones of Hua and Sarkar (1990, IEEE Trans. ASSP). Samples are averaged in blocks
first where the ring is slow against the rate: that changes amplitudes of exponentials, never their poles."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.ring_kernel import beside, columns_of, slopes_of, spanned
from jiyuu.signals.transforms import rfft

POINTS_A_PERIOD = 20.0
MOST_POINTS, MOST_GUESSED = 4000, 500
MOST_PAIRS, MOST_REALS = 3, 2
ORDER = 9  # exponentials that a guess may hold
OVER_NOISE = 4.0
SWINGS = 0.25  # of its decay, that a pair turns at least
FAR_BELOW = 0.15
LOGARITHMS = (-12.0, 14.0)  # of 1/s, between which anything is looked for
FASTEST = 3.0  # nats from a point to the next
ALIKE = 1e-9  # share of a column that no other column has: less, and it is one of them
STILL = 0.02  # share of a radius: nearer to the real axis, or to the origin, is on it


@dataclass(frozen=True, slots=True, eq=False)
class RingFit:
    """poles (p,) rad/s, one of each pair with a positive imaginary part, the slowest that swings first; reals (r,)
    rates 1/s > 0; covariance (2p + r,)² of ln(−Re) and ln(Im) by turns and of ln(rate); left: what the fit leaves over
    what the noise would, of `degrees` of freedom; excess: by how many standard deviations that is more, over the whole
    or its beginning; amplitudes of all, see basis; swinging: how many of the pairs do."""

    poles: ComplexArray
    reals: FloatArray
    covariance: FloatArray
    left: float
    degrees: int
    excess: float
    amplitudes: FloatArray
    swinging: int

    @property
    def spread(self) -> float:
        """Relative, of the first pair's decay and pitch together."""
        return float(np.sqrt(max(self.covariance[0, 0] + self.covariance[1, 1], 0.0)))

    @property
    def count(self) -> int:
        """Of amplitudes."""
        return self.amplitudes.size


def basis(t: FloatArray, poles: ComplexArray, reals: FloatArray) -> FloatArray:
    """(n, 2p + r + 1): cosine and sine of every pair, the reals, and a constant."""
    return np.asarray(columns_of(t, poles, reals).T)


def in_blocks(record_v: FloatArray, sample_rate_hz: float, block: int) -> tuple[FloatArray, FloatArray]:
    """(seconds from the first sample, means of blocks)."""
    count = record_v.size // block
    means: FloatArray = record_v[: count * block].reshape(count, block).mean(axis=1)
    return np.asarray((np.arange(count) * block + 0.5 * (block - 1)) / sample_rate_hz, dtype=float), means


def block_for(frequency_hz: float, sample_rate_hz: float, size: int) -> int:
    """How many samples a block may have."""
    fine = max(int(sample_rate_hz / (POINTS_A_PERIOD * frequency_hz)), 1)
    return fine if size / fine <= 4 * MOST_POINTS else max(fine, size // (4 * MOST_POINTS))


def guessed(t: FloatArray, y: FloatArray, noise_v: float) -> tuple[ComplexArray, FloatArray]:
    """Pairs and real rates that the record's own shifts tell; neither may be told."""
    y, t = y[:MOST_GUESSED], t[:MOST_GUESSED]
    rows = y.size // 3
    if rows < 4:
        return np.zeros(0, dtype=np.complex128), np.zeros(0)
    hankel = np.lib.stride_tricks.sliding_window_view(y, rows + 1)
    _, strengths, right = np.linalg.svd(hankel, full_matrices=False)
    floor = max(OVER_NOISE * noise_v * np.sqrt(hankel.shape[0]), 1e-9 * strengths[0])
    order = int(np.clip(np.count_nonzero(strengths > floor), 1, ORDER))
    signal = right[:order].T
    turned = np.linalg.eigvals(np.linalg.lstsq(signal[:-1], signal[1:], rcond=None)[0]).astype(np.complex128)
    rates: ComplexArray = np.asarray(np.log(turned[np.abs(turned) > 1e-6]) / (t[1] - t[0]), dtype=np.complex128)
    least = 0.05 / (t[-1] - t[0])
    dying = rates[(rates.real < 4 * least) & (np.abs(rates) > 0.4 * least)]
    swings = np.abs(dying.imag) > STILL * np.abs(dying)
    upper = dying[swings & (dying.imag > 0)]
    pairs: ComplexArray = np.asarray(np.minimum(upper.real, -least) + 1j * upper.imag, dtype=np.complex128)
    return _strongest(t, y, pairs, np.maximum(-dying[~swings].real, least))


def _strongest(
    t: FloatArray, y: FloatArray, pairs: ComplexArray, reals: FloatArray
) -> tuple[ComplexArray, FloatArray]:
    """Those that carry most of the record."""
    columns = basis(t, pairs, reals)
    found = np.linalg.lstsq(columns, y, rcond=None)[0]
    energy = np.array([np.sum((columns[:, [2 * i, 2 * i + 1]] @ found[2 * i : 2 * i + 2]) ** 2)
                       for i in range(pairs.size)])
    weight = np.array([np.sum((columns[:, 2 * pairs.size + i] * found[2 * pairs.size + i]) ** 2)
                       for i in range(reals.size)])
    strong = np.asarray(reals[np.argsort(-weight)][:MOST_REALS], dtype=float)
    return np.asarray(pairs[np.argsort(-energy)][:MOST_PAIRS], dtype=np.complex128), strong


@dataclass(frozen=True, slots=True, eq=False)
class _Spanned:
    """Columns (k, n) of poles and rates, what they span (k, n), the amplitudes of what is nearest to a record there,
    and that less the record (n,)."""

    poles: ComplexArray
    rates: FloatArray
    columns: FloatArray
    onto: FloatArray
    amplitudes: FloatArray
    left: FloatArray

    @classmethod
    def by(cls, t: FloatArray, y: FloatArray, poles: ComplexArray, rates: FloatArray) -> _Spanned:
        columns = columns_of(t, poles, rates)
        onto, amplitudes, left, least = spanned(columns, y)
        if least < ALIKE:  # two are nearly one: of all amplitudes the smallest
            amplitudes = np.asarray(np.linalg.lstsq(columns.T, y, rcond=None)[0], dtype=float)
            left = np.asarray(amplitudes @ columns - y)
        return cls(poles, rates, columns, onto, amplitudes, left)

    def slopes(self, t: FloatArray) -> FloatArray:
        """(2p + r, n) by the logarithms of decay, pitch and rate, the amplitudes held."""
        return np.asarray(slopes_of(t, self.columns, self.poles, self.rates, self.amplitudes))


def fit_ring(
    t: FloatArray, y: FloatArray, noise_v: float, pairs: ComplexArray, reals: FloatArray
) -> RingFit | None:
    """From first guesses; t in s from where the fit begins, noise_v of each point. None where it does not settle or has
    fewer points than it needs."""
    count = 2 * pairs.size + reals.size
    if not pairs.size or y.size < 3 * count + 8:
        return None
    if y.size > MOST_POINTS:
        t, y = t[:MOST_POINTS], y[:MOST_POINTS]

    def apart(theta: FloatArray) -> tuple[ComplexArray, FloatArray]:
        both = np.exp(np.clip(theta[: 2 * pairs.size], *LOGARITHMS))
        rates = np.asarray(np.exp(np.clip(theta[2 * pairs.size :], *LOGARITHMS)), dtype=float)
        return np.asarray(-both[::2] + 1j * both[1::2], dtype=np.complex128), rates

    last: dict[bytes, _Spanned] = {}

    def at(theta: FloatArray) -> _Spanned:
        """Slopes are asked for where the misfit was just before."""
        key = theta.tobytes()
        if key not in last:
            last.clear()
            last[key] = _Spanned.by(t, y, *apart(theta))
        return last[key]

    def left(theta: FloatArray) -> FloatArray:
        return at(theta).left

    def jacobian_of(theta: FloatArray) -> FloatArray:
        """As in Kaufman (1975, BIT): the slopes, less what the amplitudes would take up."""
        here = at(theta)
        return np.asarray(beside(here.slopes(t), here.onto).T)

    start = np.concatenate([np.log(np.stack([-pairs.real, pairs.imag], axis=1)).ravel(), np.log(reals)])
    try:
        if not np.isfinite(left(start)).all():
            return None
        # Marquardt's own (MINPACK), without what least_squares does round every step of it.
        with np.errstate(over="ignore"):  # of a covariance that is found better below
            found, *_ = scipy.optimize.leastsq(left, start, Dfun=jacobian_of, diag=np.full(start.size, 10.0),
                                               full_output=True, maxfev=60, ftol=1e-8, xtol=1e-8, gtol=1e-8)
    except (ValueError, np.linalg.LinAlgError):
        return None
    poles, rates = apart(found)
    if max(poles.imag) * (t[1] - t[0]) > 0.9 * np.pi or -min(poles.real) * (t[1] - t[0]) > FASTEST:
        return None  # between two points anything may swing
    there = _Spanned.by(t, y, poles, rates)
    amplitudes, residual = there.amplitudes, -there.left
    degrees = y.size - count - amplitudes.size
    ratio = float(np.sqrt(residual @ residual / degrees) / noise_v)
    # What a few poles miss of a ring stands at its beginning, and drowns in what comes after.
    excess = (ratio**2 - 1) * np.sqrt(0.5 * degrees)
    for decays in (0.5, 2.0):
        span = max(int(decays / (-max(poles.real) * (t[1] - t[0]))), count + amplitudes.size + 8)
        if span < y.size:
            free = span - count - amplitudes.size
            excess = max(excess, (residual[:span] @ residual[:span] / (free * noise_v**2) - 1) * np.sqrt(0.5 * free))
    jacobian = np.concatenate([there.slopes(t), there.columns]).T
    try:
        scale = np.maximum(np.linalg.norm(jacobian, axis=0), 1e-40)
        inverse = np.linalg.inv((jacobian / scale).T @ (jacobian / scale))
        with np.errstate(over="ignore"):
            covariance = inverse / scale / scale[:, np.newaxis] * noise_v**2
    except np.linalg.LinAlgError:
        return None
    # What hardly swings is a real pole in disguise, and what swings far below the ring is a coupling in disguise.
    disguised = poles.imag < SWINGS * -poles.real
    power = (amplitudes[0 : 2 * poles.size : 2] ** 2 + amplitudes[1 : 2 * poles.size : 2] ** 2) * np.abs(
        poles) ** 2 / -poles.real
    disguised |= np.abs(poles) < FAR_BELOW * np.abs(poles[int(np.argmax(np.where(disguised, 0.0, power)))])
    order = np.lexsort((-poles.real, disguised))
    places = np.concatenate([*([2 * i, 2 * i + 1] for i in order), np.arange(2 * poles.size, count)]).astype(int)
    spots = np.concatenate([places, np.arange(count, amplitudes.size)])
    return RingFit(poles[order], rates, covariance[np.ix_(places, places)], ratio, degrees,
                   float(excess),
                   np.asarray(amplitudes[spots]), int(np.count_nonzero(~disguised)))


def first_guess_hz(record_v: FloatArray, sample_rate_hz: float) -> float:
    """The loudest line of a ring. Raises MeasurementError where there is nothing."""
    piece = record_v[: 1 << 17] - record_v[-record_v.size // 8 :].mean()
    size = 1 << int(np.ceil(np.log2(max(piece.size, 256))) + 1)
    # What only dies away leans on the lowest bins: the slope of the record tells more of what swings.
    spectrum = np.abs(rfft(np.diff(piece), size))
    place = int(spectrum[2:].argmax()) + 2
    if not spectrum[place] > 0:
        raise MeasurementError("Nothing rings in the recording; raise the level and record again.")
    return place * sample_rate_hz / size
