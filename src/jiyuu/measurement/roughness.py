"""Roughness after Daniel and Weber (1997, Acustica): how deep, and how alike from band to band, the envelopes in 47
overlapping bands of the ear move at the rates that are heard as rough.

The curves of the ear are those of mosqito, whose own loops over every line and band take a second for a second of
sound: here a frame's bands are one array, and what their envelopes have in common is told by their spectra. A band
whose envelope stands still is like no other; there its loops correlate what rounding leaves."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.signals.transforms import irfft, rfft

BANDS = 47
QUIET_PA = 2e-5
LOWER_SLOPE_DB = 27.0  # a Bark, of what a line excites beside itself (Terhardt)
CALIBRATED = 0.25  # asper: a tone of 1 kHz at 60 dB whose level moves wholly 70 times a second is 1
STILL = 1e-24  # of the strongest band's power: what arithmetic leaves
CROSSED = 1.42  # root-mean-square to peak, as the curves were stated for


@dataclass(frozen=True, slots=True, eq=False)
class _Ear:
    """What depends on a frame's length alone: window (n,); ear, bark, hertz and threshold_db of its lines (n/2,);
    threshold_db of the bands (47,) and what each counts; how it weights rates of its envelope (47, rates)."""

    window: FloatArray
    ear: FloatArray
    bark: FloatArray
    hertz: FloatArray
    threshold_db: FloatArray
    band_threshold_db: FloatArray
    counts: FloatArray
    rates: FloatArray


@lru_cache(maxsize=2)
def _ear_of(size: int, sample_rate_hz: float) -> _Ear:
    from mosqito.sq_metrics.roughness.roughness_dw._ear_filter_coeff import _ear_filter_coeff
    from mosqito.sq_metrics.roughness.roughness_dw._gzi_weighting import _gzi_weighting
    from mosqito.sq_metrics.roughness.roughness_dw._H_weighting import _H_weighting
    from mosqito.utils import bark2freq, freq2bark
    from mosqito.utils.LTQ import LTQ

    lines = np.arange(1, size // 2 + 1)
    hertz, middles = np.asarray(lines * (sample_rate_hz / size), dtype=float), np.arange(1, BANDS + 1) / 2
    bark, window = freq2bark(hertz), np.blackman(size)
    threshold = LTQ(bark, reference="roughness")
    weights = _H_weighting(size, sample_rate_hz)
    return _Ear(
        CROSSED * window / window.sum(), 10 ** (0.05 * np.asarray(_ear_filter_coeff(bark))), bark, hertz, threshold,
        np.asarray(np.interp(bark2freq(middles) * size / sample_rate_hz, lines, threshold)), _gzi_weighting(middles),
        weights[:, : int(np.flatnonzero(weights.any(axis=0))[-1]) + 1],
    )


def roughness_of_frame(sound_pa: FloatArray, sample_rate_hz: float) -> float:
    """Asper, of a frame (n,) of an even number of samples, 0.2 s of it; 0 for silence."""
    size = sound_pa.size
    ear = _ear_of(size, sample_rate_hz)
    spectrum = rfft(sound_pa * ear.window)[: size // 2] * ear.ear
    level_db = 20 * np.log10(np.maximum(np.abs(spectrum), 2e-12) / QUIET_PA)
    heard = np.flatnonzero(level_db > ear.threshold_db)
    excited = np.zeros((BANDS, size // 2 + 1), dtype=complex)
    excited[:, heard] = _shares(level_db[heard], ear.bark[heard], ear.hertz[heard], ear.band_threshold_db) * spectrum[
        heard]
    excited[:, 1:] /= 2  # both halves of a real sound
    envelopes = np.abs(size * irfft(excited, size))
    mean = envelopes.mean(axis=1)
    moves = rfft(envelopes - mean[:, np.newaxis])[:, : ear.rates.shape[1]] * ear.rates
    strength = np.sqrt(2 * np.sum(np.abs(moves) ** 2, axis=1)) / size  # RMS of the envelope's rough part
    depth = np.minimum(np.divide(strength, mean, out=np.zeros(BANDS), where=mean > 0), 1.0)
    alike = _alike(moves)
    # Each band by how alike it is to those a Bark below and above, as far as there are any.
    below = np.concatenate([np.ones(2), alike])
    above = np.concatenate([alike, np.ones(2)])
    return CALIBRATED * float(np.sum(ear.counts * (depth * below * above) ** 2))


def _shares(level_db: FloatArray, bark: FloatArray, hertz: FloatArray, threshold_db: FloatArray) -> FloatArray:
    """(47, lines) of each line's amplitude that each band lets through: all of it in its own bands; elsewhere what it
    excites in the band next to it on the line's side, if that can be heard."""
    first, last = np.floor(2 * bark) - 1, np.ceil(2 * bark) - 1
    upper_slope = np.minimum(-24 - 230 / hertz + 0.2 * level_db, 0.0)
    band = np.arange(BANDS)[:, np.newaxis]
    beside = np.where(last > band, band + 1, band - 1)
    away = (beside + 1) / 2 - bark
    excited_db = level_db + np.where(beside >= last, upper_slope * away, LOWER_SLOPE_DB * away)
    audible = excited_db > threshold_db[np.clip(beside, 0, BANDS - 1)]
    own = (band == first) | (band == last)
    return np.where(own, 1.0, np.where(audible, 10 ** (0.05 * (excited_db - level_db)), 0.0))


def _alike(moves: ComplexArray) -> FloatArray:
    """(45,) correlation of every band's envelope with that two bands, which is a Bark, above; 0 where one is still."""
    power = np.sum(np.abs(moves) ** 2, axis=1)
    moving = power > STILL * power.max()
    common = np.sum(np.real(moves[:-2] * np.conj(moves[2:])), axis=1)
    return np.asarray(np.divide(common, np.sqrt(power[:-2] * power[2:]), out=np.zeros(BANDS - 2),
                                where=moving[:-2] & moving[2:]))
