"""A steady tone: frequency, level, DC, harmonics, noise.

Non-linear least squares of DC and harmonics 1 … K on the whole record, Gauss–Newton on the frequency. In white noise
this reaches the Cramér–Rao bound, var(f) = 12·fs² / (4π²·η·N(N² − 1)), η = A²/(2σ²) (Rife and Boorstyn 1974, IEEE
Transactions on Information Theory), and harmonics only sharpen it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement import tone_kernel
from jiyuu.measurement.step_lines import divided
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.measurement.waveform_faults import sounding_part
from jiyuu.quantities import A4_HZ, note_and_cents
from jiyuu.signals.transforms import rfft
from jiyuu.stopping import checkpoint

HIGHEST_HARMONIC = 20
CLEAR_LINE = 0.05  # of the strongest
FIRST_LOOK = 1 << 20  # samples in which the tone is found first
PIECE = 1 << 18  # samples fitted at once
LOWEST_HZ = 5.0


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredTone:
    """amplitude_peak_v and thd_percent refer to the fundamental; harmonics_db (1 … K) re the first."""

    frequency_hz: Uncertain
    note: str
    cents: float
    amplitude_peak_v: float
    dc_v: float
    thd_percent: float
    thd_n_percent: float
    harmonics_db: tuple[float, ...]

    def at(self, frequency_hz: Uncertain, concert_a_hz: float) -> MeasuredTone:
        """The same at another pitch."""
        note, cents = note_and_cents(frequency_hz.value, concert_a_hz=concert_a_hz)
        return replace(self, frequency_hz=frequency_hz, note=note, cents=cents)


def measure_tone(recording_v: FloatArray, sample_rate_hz: float, *, concert_a_hz: float = A4_HZ) -> MeasuredTone:
    """recording_v (n,) volts with one steady tone in it, of which the part is taken in which it sounds. Raises
    MeasurementError when there is none."""
    record = np.asarray(recording_v, dtype=float)
    if record.size < 64:
        raise MeasurementError(f"The recording is only {record.size} samples long; record at least 0.1 s.")
    if not np.isfinite(record).all():
        raise MeasurementError("The recording holds samples that are not numbers; export it again.")
    if not np.ptp(record):
        raise MeasurementError("The recording is silent; check cable and level.")
    record = record[sounding_part(record, sample_rate_hz)]
    middle = max((record.size - FIRST_LOOK) // 2, 0)
    turn = _strongest_turn(record[middle : middle + FIRST_LOOK], sample_rate_hz)
    for rounds in range(12):
        checkpoint()
        harmonics = _harmonics(turn, HIGHEST_HARMONIC if rounds > 1 else 1)
        _, residual, step, curvature = _fit(record, turn, len(harmonics))
        turn += step
        # A hundredth of the noise's own reach is near enough; a clean record goes on to the last bit.
        if rounds > 2 and abs(step) < max(0.01 * np.sqrt(np.mean(residual**2) / curvature), 1e-13):
            break
    weights, residual, _, _ = _fit(record, turn, len(_harmonics(turn, HIGHEST_HARMONIC)))
    freedom = max(record.size - 2 * len(_harmonics(turn, HIGHEST_HARMONIC)) - 2, 1)
    variance = float(residual @ residual) / freedom
    amplitudes = np.hypot(weights[1::2], weights[2::2])
    if amplitudes[0] ** 2 / 2 < 2 * variance * np.log(record.size) * 4 / record.size + 1e-30:
        raise MeasurementError("No steady tone stands out of the noise; raise the level or record longer.")
    frequency_hz = turn * sample_rate_hz / (2 * np.pi)
    deviation_hz = float(np.sqrt(variance / curvature)) * sample_rate_hz / (2 * np.pi)
    deviation_hz *= _louder_nearby(residual, turn)
    # Rounding of samples and of this sum keeps a noiseless record from claiming more than the format holds.
    deviation_hz = max(deviation_hz, 1e-12 * frequency_hz)
    note, cents = note_and_cents(frequency_hz, concert_a_hz=concert_a_hz)
    beside = float(np.sum(amplitudes[1:] ** 2)) + 2 * variance  # powers are half these squares on both sides
    return MeasuredTone(
        frequency_hz=Uncertain(frequency_hz, COVERAGE * deviation_hz),
        note=note,
        cents=cents,
        amplitude_peak_v=float(amplitudes[0]),
        dc_v=float(weights[0]),
        thd_percent=100 * float(np.sqrt(np.sum(amplitudes[1:] ** 2)) / amplitudes[0]),
        thd_n_percent=100 * float(np.sqrt(beside) / amplitudes[0]),
        harmonics_db=tuple(float(v) for v in 20 * np.log10(np.maximum(amplitudes / amplitudes[0], 1e-15))),
    )


def partials(record_v: FloatArray, sample_rate_hz: float, hertz: float) -> tuple[ComplexArray, FloatArray]:
    """(phasors (K,) of the harmonics 1 … K of a pitch in the middle of a record (n,), volts peak; what they leave)."""
    turn = 2 * np.pi * hertz / sample_rate_hz
    weights, residual, _, _ = _fit(record_v, turn, len(_harmonics(turn, HIGHEST_HARMONIC)))
    return np.asarray(weights[1::2] - 1j * weights[2::2]), residual


def _louder_nearby(residual: FloatArray, turn: float) -> float:
    """How much louder the noise is beside the tone than on the whole, 1 where it is not: only what is near the tone can
    pull its pitch, and pink noise is loud there."""
    power = np.abs(rfft(residual * np.hanning(residual.size))) ** 2
    at = round(turn / (2 * np.pi) * residual.size)
    reach = max(at // 10, 24)
    near = np.concatenate([power[max(at - reach, 1) : max(at - 3, 1)], power[at + 4 : at + reach]])
    if near.size < 16:
        return 1.0
    return float(np.sqrt(max(np.mean(near) / max(float(np.mean(power[1:])), 1e-300), 1.0)))


def _strongest_turn(record: FloatArray, sample_rate_hz: float) -> float:
    """Angular frequency per sample of the fundamental, from a windowed spectrum; of a tone whose fundamental is missing
    that of its loudest partial."""
    size = 1 << int(np.ceil(np.log2(record.size)) + 2)
    window = np.hanning(record.size)
    magnitude = np.abs(rfft((record - record.mean()) * window, size))
    lowest = max(int(LOWEST_HZ * size / sample_rate_hz), int(3 * size / record.size))
    magnitude[:lowest] = 0
    if not magnitude.any():
        raise MeasurementError("The recording is too short for its tone; record at least four periods.")
    peak = int(np.argmax(magnitude))
    # A harmonic may be stronger than the fundamental: accept a whole fraction that also holds a clear line.
    found = divided(record, sample_rate_hz, 0.0, record.size / sample_rate_hz, peak * sample_rate_hz / size)
    sure = found.divisor > 1 and found.fundamental
    for divisor in (found.divisor,) if sure else (4, 3, 2):
        near = peak // divisor
        reach = max(int(size / record.size), 1)
        low = max(near - reach, lowest)
        if near + reach > peak - 2.2 * size / record.size:
            continue  # too few periods: there lies the foot of the line itself
        least = 0.0 if sure else CLEAR_LINE * magnitude[peak]
        if low < near + reach + 1 and magnitude[low : near + reach + 1].max(initial=0) > least:
            peak = low + int(np.argmax(magnitude[low : near + reach + 1]))
            break
    a, b, c = np.log(np.maximum(magnitude[peak - 1 : peak + 2], 1e-300))
    shift = 0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c else 0.0
    return float(2 * np.pi * (peak + np.clip(shift, -0.5, 0.5)) / size)


def _harmonics(turn: float, highest: int) -> list[int]:
    return [h for h in range(1, highest + 1) if h * turn < 0.98 * np.pi]


def _fit(record: FloatArray, turn: float, harmonics: int) -> tuple[FloatArray, FloatArray, float, float]:
    """(least-squares weights (DC, cos 1, sin 1, cos 2, …), residual (n,), Gauss and Newton's step on the frequency, the
    information it rests on: the sum of the squared derivative). A long record is gone through in pieces.

    With time centred on the record the frequency is uncorrelated with phase and amplitude."""
    pieces = [slice(start, start + PIECE) for start in range(0, record.size, PIECE)]
    first = -(record.size - 1) / 2
    right = np.zeros(1 + 2 * harmonics)
    for piece in pieces:
        checkpoint()
        right += tone_kernel.against(record[piece], first + piece.start, turn, harmonics)
    weights = np.asarray(np.linalg.solve(_products(record.size, turn, harmonics), right), dtype=float)
    residual, along, information = np.empty(record.size), 0.0, 0.0
    for piece in pieces:
        checkpoint()
        residual[piece], more, told = tone_kernel.left_by(record[piece], first + piece.start, turn, weights)
        along, information = along + more, information + told
    return weights, residual, along / information, information


def _products(count: int, turn: float, harmonics: int) -> FloatArray:
    """(1 + 2k, 1 + 2k) sums of every product of two of one, cosine and sine of every harmonic, over `count` samples
    about the middle: cosines add up to Dirichlet's kernel there, and a cosine times a sine to nothing."""
    half = turn * np.arange(1, 2 * harmonics + 1) / 2  # below half a turn, since every harmonic is below half the rate
    sums = np.concatenate([[count], np.sin(count * half) / np.sin(half)])
    number = np.arange(1, harmonics + 1)
    apart, together = sums[np.abs(number[:, np.newaxis] - number)], sums[number[:, np.newaxis] + number]
    found = np.zeros((1 + 2 * harmonics, 1 + 2 * harmonics))
    found[0, 0], found[0, 1::2], found[1::2, 0] = count, sums[number], sums[number]
    found[1::2, 1::2], found[2::2, 2::2] = (apart + together) / 2, (apart - together) / 2
    return found
