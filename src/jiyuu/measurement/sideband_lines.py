"""The lines that a tone gets while a filter's cutoff is moved within hearing, read from a recording.

All lines whose places follow from the two frequencies are fitted together (least squares), with what the control lets
through beside them; the recorder's clock moves all of them alike and is fitted too."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.contexts_moving import SidebandsOf
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.uncertain import COVERAGE
from jiyuu.measurement.waveform_faults import sounding_part
from jiyuu.stopping import checkpoint

ORDERS, MOST_ORDERS = 4, 16
MOST_SAMPLES = 1 << 18
LOWEST_HZ, HIGHEST_SHARE = 5.0, 0.45  # of the rate
APART = 2.0  # lines nearer than so many times the record's own resolution cannot be told apart
ROUNDS, STILL_PPM = 8, 1e-4
FARTHEST_PPM = 500.0
CLEAR = 4.0  # deviations that the tone itself stands over the noise at least


@dataclass(frozen=True, slots=True, eq=False)
class SidebandLines:
    """order (m,) rising, the tone's own being 0; frequency_hz (m,) folded up where it lies under 0; level_v (m,) peak;
    deviation_v: standard uncertainty of each level; clock_ppm: how much too fast the recorder ran."""

    order: FloatArray
    frequency_hz: FloatArray
    level_v: FloatArray
    deviation_v: float
    clock_ppm: float

    @property
    def level_db(self) -> FloatArray:
        """(m,) re the tone's own line."""
        own = self.level_v[self.order == 0][0]
        return np.asarray(20 * np.log10(np.maximum(self.level_v, 1e-20) / own))

    @property
    def uncertainty_db(self) -> FloatArray:
        """(m,) 95 % of that, at most 60 dB."""
        own = self.level_v[self.order == 0][0]
        share = COVERAGE * self.deviation_v * np.hypot(1 / np.maximum(self.level_v, 1e-20), 1 / own)
        return np.asarray(np.minimum(20 * np.log10(1 + share), 60.0))


def sideband_lines(
    recording_v: FloatArray, sample_rate_hz: float, *, tone_hz: float, rate_hz: float, orders: int = ORDERS
) -> SidebandLines:
    """recording_v (n,) of a steady tone while a steady sine of rate_hz moves the cutoff; of more than MOST_SAMPLES the
    middle is taken. Raises MeasurementError, with
    what to do, where lines cannot be told apart or the tone is not there."""
    if not 1 <= orders <= MOST_ORDERS:
        raise MeasurementError(f"{orders} lines on either side are out of range; give 1 to {MOST_ORDERS}.")
    for name, hertz in (("tone", tone_hz), ("rate", rate_hz)):
        if not LOWEST_HZ <= hertz <= HIGHEST_SHARE * sample_rate_hz:
            raise MeasurementError(f"A {name} of {hertz:g} Hz is out of range; give {LOWEST_HZ:g} to "
                                   f"{HIGHEST_SHARE * sample_rate_hz:g} Hz.")
    # Every line costs two columns of memory: of a long recording its middle says enough.
    if not np.isfinite(recording_v).all() or not np.ptp(recording_v):
        raise MeasurementError("The recording is silent or holds samples that are not numbers; record again.")
    record = recording_v[sounding_part(recording_v, sample_rate_hz)]
    begin = max((record.size - MOST_SAMPLES) // 2, 0)
    record = record[begin : begin + MOST_SAMPLES]
    record = record - record.mean()
    n = np.arange(-orders, orders + 1)
    places = np.abs(tone_hz + n * rate_hz)
    kept = (places >= LOWEST_HZ) & (places <= HIGHEST_SHARE * sample_rate_hz)
    n, places = n[kept], places[kept]
    # What couples over from the control, and what the tone bends, lies at places of its own.
    beside = np.array([*(k * rate_hz for k in range(1, orders + 1)), 2 * tone_hz])
    least_hz = APART * sample_rate_hz / record.size
    gaps = np.diff(np.sort(places))
    if places.size > 1 and gaps.min() < least_hz:
        raise MeasurementError(f"Lines of {tone_hz:g} Hz and {rate_hz:g} Hz fall onto each other; move one of them by "
                               "a few hertz, or record longer.")
    clash = np.abs(places[:, np.newaxis] - beside).min(axis=0)
    if (clash[:-1] < least_hz).any():
        raise MeasurementError(f"A line of {tone_hz:g} Hz falls onto a multiple of {rate_hz:g} Hz, where the control "
                               "itself couples over; move one of them by a few hertz.")
    beside = beside[(clash >= least_hz) & (beside <= HIGHEST_SHARE * sample_rate_hz)]
    every = np.concatenate([places, beside])
    t = (np.arange(record.size) - 0.5 * record.size) / sample_rate_hz
    ppm = 0.0
    for _ in range(ROUNDS):
        checkpoint()
        omega = 2 * np.pi * every / (1 + 1e-6 * ppm)
        columns = _columns(omega, t)
        weights, left = _fitted(columns, record)
        # What a clock a little faster would do to it.
        slope = -1e-6 * t * (columns @ np.concatenate([omega * weights.imag, -omega * weights.real, [0.0]]))
        step = float(slope @ left / max(float(slope @ slope), 1e-300))
        ppm += step
        if abs(ppm) > FARTHEST_PPM:
            raise MeasurementError(f"No tone of {tone_hz:g} Hz is in the recording; check the frequencies.")
        if abs(step) < STILL_PPM:
            break
    weights, left = _fitted(_columns(2 * np.pi * every / (1 + 1e-6 * ppm), t), record)
    deviation = float(np.sqrt(left @ left / (record.size - 2 * every.size) * 2 / record.size))
    level = np.abs(weights[: places.size])
    if level[n == 0][0] < CLEAR * deviation or level.max() < CLEAR * deviation:
        raise MeasurementError(f"No tone of {tone_hz:g} Hz stands over what else is in the recording; check the "
                               "frequencies, or raise the level.")
    return SidebandLines(n.astype(float), places, level, deviation, ppm)


def _columns(omega: FloatArray, t: FloatArray) -> FloatArray:
    """(n, 2m + 1) cosine and sine of every line (m,) at t (n,), and what stands still."""
    size = omega.size
    columns = np.empty((t.size, 2 * size + 1))
    cosine, sine = columns[:, :size], columns[:, size : 2 * size]
    np.multiply(t[:, np.newaxis], omega, out=cosine)
    np.sin(cosine, out=sine)
    np.cos(cosine, out=cosine)
    columns[:, -1] = 1.0
    return columns


def _fitted(columns: FloatArray, record: FloatArray) -> tuple[ComplexArray, FloatArray]:
    """(cosine and sine of each line as a + jb (m,), what is left (n,))."""
    found = np.linalg.solve(columns.T @ columns, columns.T @ record)
    size = columns.shape[1] // 2
    return np.asarray(found[:size] + 1j * found[size : 2 * size]), np.asarray(record - columns @ found)


def sideband_finding(found: SidebandLines, *, tone_hz: float, rate_hz: float, octaves: float) -> Finding:
    """The louder of the two nearest lines, re the tone's own."""
    beside = [int(np.flatnonzero(found.order == order)[0]) for order in (-1, 1) if (found.order == order).any()]
    loudest = max(beside, key=lambda i: float(found.level_v[i]))
    lower, upper = beside[0], beside[-1]
    return Finding("sideband_db", float(found.level_db[loudest]), "dB", float(found.uncertainty_db[loudest]),
                   context=SidebandsOf(
                       tone_hz, rate_hz, octaves, float(found.frequency_hz[lower]), float(found.level_db[lower]),
                       float(found.frequency_hz[upper]), float(found.level_db[upper])))
