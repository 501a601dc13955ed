"""How a steady sound is made up, and how the ear takes it: arrays in, numbers out.

Loudness over the ear's bands after ISO 532-1 (Zwicker), sharpness after DIN 45692, roughness after Daniel and Weber
(1997, Acustica)."""

from __future__ import annotations

import warnings
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.roughness import roughness_of_frame
from jiyuu.signals.transforms import rfft

LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0
EAR_RATE_HZ = 48_000.0  # that the standards' filters are stated for
ROUGHNESS_FRAME_S = 0.2


@dataclass(frozen=True, slots=True, eq=False)
class Spectrum:
    """power (m,) mean square of each line at frequency_hz (m,), within hearing."""

    frequency_hz: FloatArray
    power: FloatArray

    @property
    def total(self) -> float:
        return float(self.power.sum())

    def under(self, hertz: float) -> float:
        """Mean square of what lies under a frequency."""
        return float(self.power[self.frequency_hz < hertz].sum())

    def around(self, hertz: float, octaves: float) -> float:
        """Mean square of what lies no farther than that from a frequency."""
        return float(self.power[np.abs(np.log2(self.frequency_hz / hertz)) <= octaves].sum())

    @property
    def centroid_hz(self) -> float:
        """Mean frequency, weighted by power. Raises MeasurementError for silence."""
        if not self.total > 0:
            raise MeasurementError("The sound is silent; raise its level.")
        return float(np.sum(self.frequency_hz * self.power) / self.total)


def spectrum_of(record_v: FloatArray, sample_rate_hz: float, *, periodic: bool) -> Spectrum:
    """Of record_v (n,). periodic: it holds whole periods of all that sounds, so that every line stands on a bin;
    otherwise a window keeps far lines apart (Hann's)."""
    window = np.ones(record_v.size) if periodic else np.hanning(record_v.size + 1)[:-1]
    lines = np.abs(rfft((record_v - record_v.mean()) * window)) ** 2
    power = 2 * lines / (record_v.size * np.sum(window**2))
    hertz = np.fft.rfftfreq(record_v.size, 1 / sample_rate_hz)
    heard = (hertz >= LOWEST_HZ) & (hertz <= HIGHEST_HZ)
    return Spectrum(np.asarray(hertz[heard], dtype=float), np.asarray(power[heard], dtype=float))


@dataclass(frozen=True, slots=True, eq=False)
class Sensation:
    """loudness_sone of the whole, specific_sone (240,) a Bark over the ear's bands (0.1 to 24 Bark), sharpness_acum."""

    loudness_sone: float
    specific_sone: FloatArray
    sharpness_acum: float


def sensation_of(pressure_pa: FloatArray, sample_rate_hz: float) -> Sensation:
    """Of a steady sound (n,) in pascals."""
    from mosqito import loudness_zwst, sharpness_din_from_loudness

    sound = _at_ear_rate(pressure_pa, sample_rate_hz)
    # Begun at once, a dull sound would click into the high bands: a fourth of its sharpness, by where it begins.
    swelling = np.hanning(sound.size + 1)[:-1]
    sound = sound * swelling / np.sqrt(np.mean(swelling**2))
    with warnings.catch_warnings(), np.errstate(divide="ignore"):
        warnings.simplefilter("ignore")
        loudness, specific, _ = loudness_zwst(sound, EAR_RATE_HZ)
        sharpness = float(sharpness_din_from_loudness(loudness, specific)) if loudness > 0 else 0.0
    return Sensation(float(loudness), np.asarray(specific, dtype=float), sharpness)


def roughness_asper(pressure_pa: FloatArray, sample_rate_hz: float) -> float:
    """Mean over frames of 200 ms, half over each other, of a steady sound (n,) in pascals. Raises MeasurementError for
    one shorter than a frame."""
    sound = _at_ear_rate(pressure_pa, sample_rate_hz)
    if sound.size < ROUGHNESS_FRAME_S * EAR_RATE_HZ:
        raise MeasurementError("Roughness is heard over at least 0.2 s; give a longer sound.")
    size = round(ROUGHNESS_FRAME_S * EAR_RATE_HZ)
    frames = [sound[begin : begin + size] for begin in range(0, sound.size - size + 1, size // 2)]
    return float(np.mean([roughness_of_frame(frame, EAR_RATE_HZ) for frame in frames]))


def _at_ear_rate(pressure_pa: FloatArray, sample_rate_hz: float) -> FloatArray:
    """At EAR_RATE_HZ, as an endless sound: what repeats does so still."""
    if sample_rate_hz == EAR_RATE_HZ:
        return pressure_pa
    from scipy.signal import resample

    return np.asarray(resample(pressure_pa, round(pressure_pa.size * EAR_RATE_HZ / sample_rate_hz)))
