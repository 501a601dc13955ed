"""Frequency response from noise: cross-spectrum over auto-spectrum, with the coherence (Bendat and Piersol 2010, Random
Data).

The stimulus stands between silences, so that the recording holds the whole of what the filter made of it and the
ratio of the spectra has no leakage. Around every frequency a polynomial is fitted to the complex gain, weighted by the
power of the stimulus; what it leaves over is the noise.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import HIGHEST_OFFSET_PPM, Passages, at_player_clock
from jiyuu.measurement.clock_offset import LEAST_PPM
from jiyuu.measurement.estimate import Estimate, FittedNetwork, nearer_by, network_of
from jiyuu.measurement.gain_by_level import pressed_db
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.noise_heard import Heard, refuse_ringing
from jiyuu.measurement.noise_windows import (
    Window,
    fit_in,
    found_in_noise,
    less_network,
    spectrum_of,
)
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.passage_faults import gain_steps_db, within_one
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.transforms import irfft

FITTED_EVERY = 2  # points of the grid
MOST_TURNS, SLICES = 12, 32  # of a single passage towards its clock; stretches of it that scatter by themselves
FIRST_PPM = (-80.0, -60.0, -40.0, -20.0, 20.0, 40.0, 60.0, 80.0)  # of clocks that are tried where 0 leads nowhere
ITS_OWN = 0.5  # share of the largest step of a gain, that all passages show
TOLD = 5.0  # standard deviations of a gain that tells a clock
UNTOLD_PPM = 5.0  # standard uncertainty of a clock from which on nothing is turned by it
ROUNDS, STILL = 4, 0.2  # of a network that tells what was cut off; standard uncertainties that it still moves by


def estimate_by_noise(
    ready: Ready, passages: Passages, *, band_hz: tuple[float, float], sample_rate_hz: float,
    draws: int,
) -> Estimate:
    """From the sound passages of a recording.

    Raises MeasurementError when no passage is wholly in the recording."""
    heard = Heard.of(ready, passages, sample_rate_hz)
    if not heard.pieces_v:
        raise MeasurementError("The recording ends before the stimulus does; record until a second after it has ended.")
    refuse_ringing(heard, ready, passages, sample_rate_hz)
    grid_hz = _grid_hz(band_hz)
    fitted_hz = grid_hz[::FITTED_EVERY]
    windows = [Window.of(heard.bins_hz, heard.stimulus, float(hertz), heard.independent) for hertz in fitted_hz]
    fits = [fit_in(window, heard.output, heard.independent) for window in windows]
    generator = np.random.default_rng(21)  # fixed: the same files give the same uncertainty
    spectrum = spectrum_of(heard, fitted_hz, fits)
    network = network_of(spectrum)
    octave, fitted = np.log2(grid_hz), np.log2(fitted_hz)
    expected = np.zeros(grid_hz.size, dtype=complex)
    if network is not None:
        # Less what the network explains there is no resonance left that is sharper than a window.
        whole = heard.uncut(network, ready, passages)
        fits = less_network(network, whole, windows)
        for _ in range(ROUNDS):
            clearer = spectrum_of(whole, fitted_hz, fits)  # what a window could not follow was taken for noise
            nearer = nearer_by(clearer, network)
            if nearer is None:
                break
            whole = heard.uncut(nearer, ready, passages)
            fits, spectrum = less_network(nearer, whole, windows), clearer
            moved, network = nearer.coefficients - network.coefficients, nearer
            if np.all(np.abs(moved) < STILL * np.linalg.norm(nearer.spread, axis=1)):
                break
        expected = network.at(grid_hz)
    gain, deviation, coherence = (np.array([getattr(fit, name) for fit in fits])
                                  for name in ("gain", "deviation", "coherence"))
    from scipy.interpolate import CubicSpline

    drawn = found_in_noise(heard, windows, fits, network, draws, generator)
    left = np.interp(octave, fitted, np.maximum(deviation**2 - drawn.kept, 0.0))
    smooth, others = np.asarray(CubicSpline(fitted, gain)(octave)), np.asarray(CubicSpline(fitted, drawn.gains)(octave))
    moving, networks = None, np.zeros((draws, grid_hz.size), dtype=complex)
    if network is not None:
        moving = FittedNetwork(network, network.moved(drawn.ways))
        networks = np.stack([one.at(grid_hz) for one in moving.drawn])
    spread = np.sqrt(left + np.mean(np.abs(networks - expected) ** 2, axis=0))
    shared = np.interp(octave, fitted, coherence)
    return Estimate(grid_hz, smooth + expected, spread, smooth + others.T + networks, len(heard.pieces_v), shared,
                    ready.place, moving)


def at_own_clock(
    ready: Ready, passages: Passages, *, band_hz: tuple[float, float], sample_rate_hz: float
) -> tuple[Ready, Uncertain] | None:
    """What was made ready with a single passage brought to the player's clock, and the ppm by which the recorder's is
    fast: what comes late in it comes later still, which moves it along its own slope. None where that is not told."""
    ahead, fitted_hz = ready.sound[0] * passages.period, _grid_hz(band_hz)[::FITTED_EVERY]
    windows: dict[int, list[Window]] = {}  # by how many bins there are

    def turned(ppm: float) -> Ready:
        return replace(ready, record_v=at_player_clock(ready.record_v, ppm),
                       place=round((ready.place + ahead) / (1 + 1e-6 * ppm)) - ahead) if ppm else ready

    def slides(ppm: float) -> _Slides | None:
        heard = Heard.of(turned(ppm), passages, sample_rate_hz)
        if not heard.pieces_v:
            return None
        if heard.bins_hz.size not in windows:
            windows[heard.bins_hz.size] = [
                Window.of(heard.bins_hz, heard.stimulus, float(hertz), heard.independent) for hertz in fitted_hz]
        fits = [fit_in(window, heard.output, heard.independent) for window in windows[heard.bins_hz.size]]
        # What noise makes of a gain would be found again in what is left.
        gain = np.array([fit.gain if abs(fit.gain) > TOLD * fit.deviation else 0.0 for fit in fits], dtype=complex)
        return _Slides.of(heard, fitted_hz, gain, sample_rate_hz)

    def settled(ppm: float) -> tuple[Ready, Uncertain] | None:
        for _ in range(MOST_TURNS):
            still = slides(ppm)
            if still is None or not still.doubt_ppm < UNTOLD_PPM:
                return None
            ppm += still.ppm
            if abs(ppm) > HIGHEST_OFFSET_PPM:
                return None
            if abs(still.ppm) < max(0.2 * still.doubt_ppm, LEAST_PPM):
                return turned(ppm), Uncertain(ppm, COVERAGE * still.doubt_ppm)
        return None

    found = settled(0.0)
    if found is None:  # so far apart that of all that is heard next to nothing adds up
        tried = [(still.explained, ppm) for ppm in FIRST_PPM if (still := slides(ppm)) is not None]
        found = settled(max(tried)[1]) if tried else None
    return found


def happened_within(
    ready: Ready, passages: Passages, found: Estimate, sample_rate_hz: float, *, turned: float | None
) -> tuple[Notice | None, float]:
    """What happened within one of the sound passages, which another one need not tell: it may have happened in both;
    and by how much they are pressed, as pressed_db has it. turned: as in within_one."""
    heard = Heard.of(ready, passages, sample_rate_hz)
    count = passages.passage_v.size
    played = Played.of(passages.passage_v, sample_rate_hz, followed=passages.period + count)
    fit = None if found.network is None else found.network.fit
    left = found.gain if fit is None else found.gain - fit.at(found.frequency_hz)
    gain = np.interp(played.bins_hz, found.frequency_hz, left.real) + 1j * np.interp(
        played.bins_hz, found.frequency_hz, left.imag)
    if fit is not None:
        gain[1:] += fit.at(played.bins_hz[1:])
    rings_v = irfft(gain * played.spectrum, played.size)
    expected_v, still_v = rings_v[:count], np.zeros(count)  # of its own, and of the passage before
    if passages.period:
        still_v = rings_v[passages.period : passages.period + count]
    noise_v = float(np.std(ready.silence_v)) if ready.silence_v.size else 0.0
    happened, own_v = [], [expected_v + still_v if which else expected_v for which in ready.sound]
    for which, own, piece in zip(ready.sound, own_v, heard.pieces_v, strict=False):
        reach = min(heard.lead, piece.size - heard.lead - count)
        around_v = piece[heard.lead - reach : heard.lead + count + reach]
        start = ready.place + which * passages.period
        happened.append(within_one(own, around_v, reach, noise_v, start, sample_rate_hz, turned=turned))
    alone = [piece[heard.lead : heard.lead + count] for piece in heard.pieces_v]
    for which, one in zip(ready.sound, happened, strict=False):
        if one is None:
            continue
        if one.fault is Fault.GAIN_CHANGED and len(alone) > 1:  # what every passage does then the unit does
            begins_s = float(one.at_s or 0.0) - (ready.place + which * passages.period) / sample_rate_hz
            steps = gain_steps_db(own_v[: len(alone)], alone, noise_v, begins_s, sample_rate_hz)
            if np.all(steps * np.sign(steps.sum()) > ITS_OWN * np.abs(steps).max()):
                continue
        return one, 0.0
    return None, pressed_db(expected_v, alone, noise_v, sample_rate_hz)


def _grid_hz(band_hz: tuple[float, float]) -> FloatArray:
    count = int(np.floor(np.log2(band_hz[1] / band_hz[0]) * POINTS_PER_OCTAVE)) + 1
    return np.asarray(band_hz[0] * 2 ** (np.arange(count) / POINTS_PER_OCTAVE))


@dataclass(frozen=True, slots=True)
class _Slides:
    """ppm: by how much too fast the recorder is still, by what a passage leaves; doubt_ppm: its standard uncertainty;
    explained: share of the passage that the gains make."""

    ppm: float
    doubt_ppm: float
    explained: float

    @classmethod
    def of(cls, heard: Heard, fitted_hz: FloatArray, gain: ComplexArray, sample_rate_hz: float) -> _Slides:
        """The scatter of stretches of the passage tells the noise, whatever its colour. gain: (f,) at fitted_hz."""
        piece = heard.pieces_v[0]
        size = 2 * (heard.bins_hz.size - 1)
        model = np.interp(heard.bins_hz, fitted_hz, gain.real, 0.0, 0.0) + 1j * np.interp(
            heard.bins_hz, fitted_hz, gain.imag, 0.0, 0.0)
        turn = 2j * np.pi * heard.bins_hz
        spectrum = model * heard.stimulus * np.exp(-turn * heard.lead / sample_rate_hz)
        left = piece - irfft(spectrum, size)[: piece.size]
        t = (np.arange(piece.size) - 0.5 * piece.size) / sample_rate_hz
        slides = -t * irfft(turn * spectrum, size)[: piece.size]
        long = piece.size // SLICES * SLICES
        pull = np.sum((left * slides)[:long].reshape(SLICES, -1), axis=1)
        weight = np.sum((slides**2)[:long].reshape(SLICES, -1), axis=1)
        whole = max(float(weight.sum()), 1e-300)
        moved = float(pull.sum()) / whole
        doubt = float(np.sqrt(np.sum((pull - moved * weight) ** 2))) / whole
        return cls(1e6 * moved, 1e6 * doubt, 1 - _energy(left) / max(_energy(piece), 1e-300))


def _energy(values: FloatArray) -> float:
    return float(values @ values)
