"""Frequency response from noise: cross-spectrum over auto-spectrum, with the coherence (Bendat and Piersol 2010, Random
Data).

The stimulus stands between silences, so that the recording holds the whole of what the filter made of it and the
ratio of the spectra has no leakage. Around every frequency a parabola is fitted to the complex gain, weighted by the
power of the stimulus; what it leaves over is the noise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.circuits.linear import ComplexArray
from jiyuu.circuits.network import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import Passages
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE

HALF_WIDTH = 0.02  # of a fit window, re its frequency
FEWEST_BINS = 12
FITTED_EVERY = 4  # points of the grid
RING_S = 0.3  # how long a filter may ring after the stimulus


@dataclass(frozen=True, slots=True, eq=False)
class Estimate:
    """A gain as measured, delay and sign still in it: frequency_hz, gain, deviation (n,), draws (m, n); the passages it
    was found from; coherence (n,), None where it was not found from noise."""

    frequency_hz: FloatArray
    gain: ComplexArray
    deviation: FloatArray
    draws: ComplexArray
    passages: int
    coherence: FloatArray | None


def estimate_by_noise(
    record: FloatArray, passages: Passages, place: int, *, band_hz: tuple[float, float], sample_rate_hz: float,
    draws: int,
) -> Estimate:
    """record (n,) at the player's clock, the first passage beginning at sample `place`.

    Raises MeasurementError when no passage is wholly in the recording."""
    length = passages.passage_v.size
    room = passages.period - length if passages.period else record.size - place - length
    lead = min(round(0.01 * sample_rate_hz), place)
    tail = min(max(room - lead, 0), round(RING_S * sample_rate_hz))
    size = 1 << int(np.ceil(np.log2(length + lead + tail)))
    stimulus = np.fft.rfft(passages.passage_v, size)
    spectra = []
    for i in range(passages.count):
        begin = place + i * passages.period - lead
        piece = record[begin : begin + lead + length + tail]
        if piece.size >= lead + length:
            spectra.append(np.fft.rfft(piece, size))
    if not spectra:
        raise MeasurementError("The recording ends before the stimulus does; record until a second after it has ended.")
    bins_hz: FloatArray = np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz), dtype=np.float64)
    output = np.mean(spectra, axis=0) * np.exp(2j * np.pi * bins_hz * lead / sample_rate_hz)
    independent = length / size  # padding makes neighbouring bins share what they know
    count = int(np.floor(np.log2(band_hz[1] / band_hz[0]) * POINTS_PER_OCTAVE)) + 1
    grid_hz = band_hz[0] * 2 ** (np.arange(count) / POINTS_PER_OCTAVE)
    fitted_hz = grid_hz[::FITTED_EVERY]
    gain, deviation, coherence = (np.array(part) for part in zip(
        *(_fit(bins_hz, stimulus, output, float(hertz), independent) for hertz in fitted_hz), strict=True
    ))
    octave, fitted = np.log2(grid_hz), np.log2(fitted_hz)
    from scipy.interpolate import CubicSpline

    smooth = np.asarray(CubicSpline(fitted, gain)(octave))
    spread = np.interp(octave, fitted, deviation)
    generator = np.random.default_rng(21)  # fixed: the same files give the same uncertainty
    # Points nearer than half a window share their noise.
    knots = np.arange(octave[0], octave[-1] + 0.06, np.log2(1 + 2 * HALF_WIDTH))
    white = (generator.standard_normal((2, draws, knots.size))) / np.sqrt(2)
    drawn = np.stack([
        np.interp(octave, knots, re) + 1j * np.interp(octave, knots, im) for re, im in zip(*white, strict=True)
    ])
    # Between two knots the mean of two noises is smaller than either.
    share = np.mod(octave - octave[0], knots[1] - knots[0]) / (knots[1] - knots[0])
    drawn = drawn / np.sqrt(share**2 + (1 - share) ** 2)
    shared = np.interp(octave, fitted, coherence)
    return Estimate(grid_hz, smooth, spread, smooth + drawn * spread, len(spectra), shared)


def _fit(
    bins_hz: FloatArray, stimulus: ComplexArray, output: ComplexArray, hertz: float, independent: float
) -> tuple[complex, float, float]:
    """(gain, its standard deviation, coherence) at one frequency."""
    step = bins_hz[1]
    half = max(HALF_WIDTH * hertz, FEWEST_BINS * step / independent / 2)
    first, last = max(int((hertz - half) / step), 1), min(int((hertz + half) / step) + 2, bins_hz.size)
    place = np.log2(bins_hz[first:last] / hertz)
    x, y = stimulus[first:last], output[first:last]
    powers = np.stack([np.ones_like(place), place, place**2], axis=1)
    design = powers * x[:, np.newaxis]
    normal = np.linalg.inv(np.conj(design.T) @ design)
    answer = normal @ (np.conj(design.T) @ y)
    left = y - design @ answer
    free = max((last - first) * independent - 3, 1.0)
    noise = float(np.sum(np.abs(left) ** 2)) * independent / free
    total = float(np.sum(np.abs(y) ** 2))
    coherence = float(np.clip(1 - np.sum(np.abs(left) ** 2) / max(total, 1e-300), 0, 1))
    return complex(answer[0]), float(np.sqrt(noise * np.real(normal[0, 0]) / independent)), coherence
