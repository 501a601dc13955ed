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
from jiyuu.measurement.alignment import HIGHEST_OFFSET_PPM, LEAST_PPM, Passages, at_player_clock
from jiyuu.measurement.bin_groups import Spectrum
from jiyuu.measurement.estimate import Estimate, FittedNetwork, nearer_by, network_of
from jiyuu.measurement.gain_by_level import pressed_db
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.network_fit import GridNoise, NetworkFit
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.passage_faults import within_one
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.signals.transforms import irfft, rfft
from jiyuu.stopping import checkpoint

HALF_WIDTH = 0.02  # of a fit window, re its frequency
FEWEST_BINS = 20
DEGREE = 4
FITTED_EVERY = 2  # points of the grid
LEAST_SHARE = 2e-6  # of a bin's gain: what clocks and interpolation leave
MOST_TURNS, SLICES = 12, 32  # of a single passage towards its clock; stretches of it that scatter by themselves
FIRST_PPM = (-80.0, -60.0, -40.0, -20.0, 20.0, 40.0, 60.0, 80.0)  # of clocks that are tried where 0 leads nowhere
TOLD = 5.0  # standard deviations of a gain that tells a clock
UNTOLD_PPM = 5.0  # standard uncertainty of a clock from which on nothing is turned by it
END_S, RINGS_ON, CLEARLY = 0.05, 0.4, 3.0  # of what is looked at; re the passage, and re what came before it
ROUNDS, STILL = 4, 0.2  # of a network that tells what was cut off; standard uncertainties that it still moves by
RING_S = 0.3  # how long a filter may ring after the stimulus


def estimate_by_noise(
    ready: Ready, passages: Passages, *, band_hz: tuple[float, float], sample_rate_hz: float,
    draws: int,
) -> Estimate:
    """From the sound passages of a recording.

    Raises MeasurementError when no passage is wholly in the recording."""
    heard = _Heard.of(ready, passages, sample_rate_hz)
    if not heard.pieces_v:
        raise MeasurementError("The recording ends before the stimulus does; record until a second after it has ended.")
    _refuse_ringing(heard, ready, passages, sample_rate_hz)
    grid_hz = _grid_hz(band_hz)
    fitted_hz = grid_hz[::FITTED_EVERY]
    windows = [_Window.of(heard.bins_hz, heard.stimulus, float(hertz), heard.independent) for hertz in fitted_hz]
    fits = [_fit(window, heard.output, heard.independent) for window in windows]
    generator = np.random.default_rng(21)  # fixed: the same files give the same uncertainty
    spectrum = _spectrum(heard, fitted_hz, fits)
    network = network_of(spectrum)
    octave, fitted = np.log2(grid_hz), np.log2(fitted_hz)
    expected = np.zeros(grid_hz.size, dtype=complex)
    if network is not None:
        # Less what the network explains there is no resonance left that is sharper than a window.
        whole = heard.uncut(network, ready, passages)
        fits = _less(network, whole, windows)
        for _ in range(ROUNDS):
            clearer = _spectrum(whole, fitted_hz, fits)  # what a window could not follow was taken for noise
            nearer = nearer_by(clearer, network)
            if nearer is None:
                break
            whole = heard.uncut(nearer, ready, passages)
            fits, spectrum = _less(nearer, whole, windows), clearer
            moved, network = nearer.coefficients - network.coefficients, nearer
            if np.all(np.abs(moved) < STILL * np.linalg.norm(nearer.spread, axis=1)):
                break
        expected = network.at(grid_hz)
    gain, deviation, coherence = (np.array([getattr(fit, name) for fit in fits])
                                  for name in ("gain", "deviation", "coherence"))
    from scipy.interpolate import CubicSpline

    smooth = np.asarray(CubicSpline(fitted, gain)(octave)) + expected
    spread = np.interp(octave, fitted, deviation)
    white = generator.standard_normal((2, fitted.size, draws)) / np.sqrt(2)
    drawn = (_shared(fits) @ (white[0] + 1j * white[1])) * deviation[:, np.newaxis]
    moving = None
    if network is not None:
        ways = network.ways(draws, generator, GridNoise(drawn.T, fitted_hz, _told(spectrum, fitted_hz)))
        lost = _lost(network, windows, heard.bins_hz) @ ways.T
        drawn = drawn + lost
        spread = np.hypot(spread, np.interp(octave, fitted, np.sqrt(np.mean(np.abs(lost) ** 2, axis=1))))
        moving = FittedNetwork(network, network.moved(ways))
    draws_of_gain = smooth + np.asarray(CubicSpline(fitted, drawn)(octave)).T
    shared = np.interp(octave, fitted, coherence)
    return Estimate(grid_hz, smooth, spread, draws_of_gain, len(heard.pieces_v), shared, ready.place, moving)


def _refuse_ringing(heard: _Heard, ready: Ready, passages: Passages, sample_rate_hz: float) -> None:
    """Raises MeasurementError where the filter still rings when what is looked at of a passage ends: cut off there a
    ring is heard all over the band."""
    place = 0 if ready.sound[0] else ready.place  # ahead of a later one rings the one before
    before = ready.record_v[max(place - round(2 * END_S * sample_rate_hz), 0) : max(place - heard.lead, 0)]
    if before.size < 0.5 * END_S * sample_rate_hz or not before.any():
        return  # nothing tells noise from a ring
    if heard.pieces_v[0].size < heard.lead + passages.passage_v.size + 2 * END_S * sample_rate_hz:
        return  # it ends while the passage sounds
    end = heard.pieces_v[0][-round(END_S * sample_rate_hz) :]
    if np.std(end) > max(RINGS_ON * np.std(heard.pieces_v[0]), CLEARLY * np.std(before)):
        raise MeasurementError("The filter still rings when a passage of the noise has long ended; turn its resonance "
                               "down, or measure it with a sweep.")


def at_own_clock(
    ready: Ready, passages: Passages, *, band_hz: tuple[float, float], sample_rate_hz: float
) -> tuple[Ready, Uncertain] | None:
    """What was made ready with a single passage brought to the player's clock, and the ppm by which the recorder's is
    fast: what comes late in it comes later still, which moves it along its own slope. None where that is not told."""
    ahead, fitted_hz = ready.sound[0] * passages.period, _grid_hz(band_hz)[::FITTED_EVERY]
    windows: dict[int, list[_Window]] = {}  # by how many bins there are

    def turned(ppm: float) -> Ready:
        return replace(ready, record_v=at_player_clock(ready.record_v, ppm),
                       place=round((ready.place + ahead) / (1 + 1e-6 * ppm)) - ahead) if ppm else ready

    def slides(ppm: float) -> _Slides | None:
        heard = _Heard.of(turned(ppm), passages, sample_rate_hz)
        if not heard.pieces_v:
            return None
        if heard.bins_hz.size not in windows:
            windows[heard.bins_hz.size] = [
                _Window.of(heard.bins_hz, heard.stimulus, float(hertz), heard.independent) for hertz in fitted_hz]
        fits = [_fit(window, heard.output, heard.independent) for window in windows[heard.bins_hz.size]]
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
    heard = _Heard.of(ready, passages, sample_rate_hz)
    size, count = 2 * (heard.bins_hz.size - 1), passages.passage_v.size
    fit = None if found.network is None else found.network.fit
    left = found.gain if fit is None else found.gain - fit.at(found.frequency_hz)
    gain = np.interp(heard.bins_hz, found.frequency_hz, left.real) + 1j * np.interp(
        heard.bins_hz, found.frequency_hz, left.imag)
    if fit is not None:
        gain[1:] += fit.at(heard.bins_hz[1:])
    rings_v = irfft(gain * heard.stimulus, size)
    expected_v, still_v = rings_v[:count], np.zeros(count)  # of its own, and of the passage before
    if passages.period:
        before = rings_v[passages.period : size - heard.lead][:count]
        still_v[: before.size] = before
    noise_v = float(np.std(ready.silence_v)) if ready.silence_v.size else 0.0
    happened = []
    for which, piece in zip(ready.sound, heard.pieces_v, strict=False):
        reach = min(heard.lead, piece.size - heard.lead - count)
        around_v = piece[heard.lead - reach : heard.lead + count + reach]
        start = ready.place + which * passages.period
        own_v = expected_v + still_v if which else expected_v
        happened.append(within_one(own_v, around_v, reach, noise_v, start, sample_rate_hz, turned=turned))
    # What every passage does at the same moment the unit does.
    own = len(happened) > 1 and all(one is not None and one.fault is Fault.GAIN_CHANGED for one in happened)
    accident = None if own else next((one for one in happened if one is not None), None)
    if accident is not None:
        return accident, 0.0
    alone = [piece[heard.lead : heard.lead + count] for piece in heard.pieces_v]
    return None, pressed_db(expected_v, alone, noise_v, sample_rate_hz)


@dataclass(frozen=True, slots=True)
class _Slides:
    """ppm: by how much too fast the recorder is still, by what a passage leaves; doubt_ppm: its standard uncertainty;
    explained: share of the passage that the gains make."""

    ppm: float
    doubt_ppm: float
    explained: float

    @classmethod
    def of(cls, heard: _Heard, fitted_hz: FloatArray, gain: ComplexArray, sample_rate_hz: float) -> _Slides:
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


def _grid_hz(band_hz: tuple[float, float]) -> FloatArray:
    count = int(np.floor(np.log2(band_hz[1] / band_hz[0]) * POINTS_PER_OCTAVE)) + 1
    return np.asarray(band_hz[0] * 2 ** (np.arange(count) / POINTS_PER_OCTAVE))


@dataclass(frozen=True, slots=True, eq=False)
class _Heard:
    """The sound passages of a recording that are whole: pieces_v from `lead` samples before each on; over bins_hz (m,)
    what was played, and the mean of what came; independent: share of the bins that know something of their own."""

    pieces_v: list[FloatArray]
    lead: int
    bins_hz: FloatArray
    stimulus: ComplexArray
    output: ComplexArray
    independent: float

    @classmethod
    def of(cls, ready: Ready, passages: Passages, sample_rate_hz: float) -> _Heard:
        record, place = ready.record_v, ready.place
        length = passages.passage_v.size
        room = passages.period - length if passages.period else record.size - place - length
        lead = min(round(0.01 * sample_rate_hz), place + ready.sound[0] * passages.period)
        tail = min(max(room - lead, 0), round(RING_S * sample_rate_hz))
        size = 1 << int(np.ceil(np.log2(length + lead + tail)))
        pieces = []
        for i in ready.sound:
            begin = place + i * passages.period - lead
            piece = record[begin : begin + lead + length + tail]
            if piece.size >= lead + length:
                pieces.append(piece)
        spectra = []
        for piece in pieces:
            checkpoint()
            spectra.append(rfft(piece, size))
        bins_hz: FloatArray = np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz), dtype=np.float64)
        output = np.mean(spectra, axis=0) * np.exp(2j * np.pi * bins_hz * lead / sample_rate_hz) if spectra else (
            np.zeros(bins_hz.size, dtype=complex))
        # Padding makes neighbouring bins share what they know of the noise.
        return cls(pieces, lead, bins_hz, rfft(passages.passage_v, size), output, (lead + length + tail) / size)

    def uncut(self, network: NetworkFit, ready: Ready, passages: Passages) -> _Heard:
        """As if a ring, which a network tells, were heard to its end and none were left of the passage before."""
        size = 2 * (self.bins_hz.size - 1)
        rings_v = Played(self.bins_hz, self.stimulus, size).behind(network)
        cut = np.zeros(size)
        for which, piece in zip(ready.sound, self.pieces_v, strict=False):
            count = piece.size - self.lead
            cut[:count] += rings_v[:count]
            cut[size - self.lead :] += rings_v[size - self.lead :]
            if which and passages.period:
                before = rings_v[passages.period - self.lead : size - self.lead][: piece.size]
                for begin, part in ((size - self.lead, before[: self.lead]), (0, before[self.lead :])):
                    cut[begin : begin + part.size] += part
        return replace(self, output=self.output + rfft(rings_v - cut / len(self.pieces_v)))


@dataclass(frozen=True, slots=True, eq=False)
class _Window:
    """The bins from `first` on about one frequency: what was played there, x (m,), powers (m, DEGREE + 1) of their
    places, and the matrix whose first row makes the gain of what came out; sharpness: its variance for unit noise."""

    hertz: float
    first: int
    x: ComplexArray
    powers: FloatArray
    solving: ComplexArray
    sharpness: float

    @classmethod
    def of(cls, bins_hz: FloatArray, stimulus: ComplexArray, hertz: float, independent: float) -> _Window:
        step = bins_hz[1]
        half = max(HALF_WIDTH * hertz, FEWEST_BINS * step / independent / 2)
        first, last = max(int((hertz - half) / step), 1), min(int((hertz + half) / step) + 2, bins_hz.size)
        place, x = np.log2(bins_hz[first:last] / hertz), stimulus[first:last]
        powers = np.vander(place / np.abs(place).max(), DEGREE + 1, increasing=True)
        # What is played weighs the real powers: the normal equations are real.
        normal = np.linalg.inv((powers.T * (x.real**2 + x.imag**2)) @ powers)
        return cls(hertz, first, x, powers, np.asarray((normal @ powers.T) * np.conj(x)), float(normal[0, 0]))


@dataclass(frozen=True, slots=True, eq=False)
class _Fit:
    """gain, its standard deviation, noise (mean square of a bin), coherence at one frequency; weights (m,) of the
    bins from `first` on, of which the gain is the sum."""

    gain: complex
    deviation: float
    noise: float
    coherence: float
    first: int
    weights: ComplexArray


def _fit(window: _Window, output: ComplexArray, independent: float, *, of: ComplexArray | None = None) -> _Fit:
    """of: what came out, where output (m,) is what of it a network has not explained yet."""
    place = slice(window.first, window.first + window.x.size)
    y = output[place]
    answer = window.solving @ y
    left = _power(y - window.x * (window.powers @ answer))
    free = max(y.size * independent - DEGREE - 1, 1.0)
    noise = left * independent / free
    coherence = min(max(1 - left / max(_power(y if of is None else of[place]), 1e-300), 0.0), 1.0)
    deviation = float(np.sqrt(noise * window.sharpness / independent))
    return _Fit(complex(answer[0]), deviation, noise / independent, coherence, window.first, window.solving[0])


def _spectrum(heard: _Heard, fitted_hz: FloatArray, fits: list[_Fit]) -> Spectrum:
    """Of all bins in the band, each as well known as the noise that fits (n,) about fitted_hz (n,) leave lets it be."""
    inside = (heard.bins_hz >= fitted_hz[0]) & (heard.bins_hz <= fitted_hz[-1])
    hertz, played = heard.bins_hz[inside], heard.stimulus[inside]
    power = np.abs(played) ** 2
    noise = np.exp(np.interp(hertz, fitted_hz, np.log([max(fit.noise, 1e-300) for fit in fits])))
    ratio = heard.output[inside] / np.where(power > 0, played, 1.0)
    variance = noise / np.maximum(power, 1e-12 * power.max()) + (LEAST_SHARE * np.abs(ratio)) ** 2
    return Spectrum(hertz, ratio, power, variance)


def _less(network: NetworkFit, heard: _Heard, windows: list[_Window]) -> list[_Fit]:
    """What the windows find of the gain that a network leaves."""
    reached = _reached(windows)
    model = np.zeros(heard.bins_hz.size, dtype=complex)
    model[reached] = network.at(heard.bins_hz[reached])
    left = heard.output - model * heard.stimulus
    return [_fit(window, left, heard.independent, of=heard.output) for window in windows]


def _reached(windows: list[_Window]) -> slice:
    """The bins that windows use: those about the ends of the band reach beyond it."""
    return slice(windows[0].first, windows[-1].first + windows[-1].x.size)


def _told(spectrum: Spectrum, hertz: FloatArray) -> FloatArray:
    """(n,) the variance that a gain at every hertz (n,) would have if it were known by the bins nearest to it alone."""
    edges = np.sqrt(np.concatenate([hertz[:1], hertz]) * np.concatenate([hertz, hertz[-1:]]))
    step = float(spectrum.bins_hz[1] - spectrum.bins_hz[0])
    told = np.concatenate([[0.0], np.cumsum(1 / spectrum.variance)])
    below = np.interp(edges, np.append(spectrum.bins_hz - 0.5 * step, spectrum.bins_hz[-1] + 0.5 * step), told)
    return np.asarray(1 / np.maximum(np.diff(below), 1e-12 * told[-1]))


def _lost(network: NetworkFit, windows: list[_Window], bins_hz: FloatArray) -> ComplexArray:
    """(n, v) what the windows do not give back of a network that moves by a standard deviation each way: about a
    resonance as sharp as they are wide a good part of it."""
    reached = _reached(windows)
    slopes = network.slopes(bins_hz[reached])
    kept = np.stack([slopes[:, w.first - reached.start : w.first - reached.start + w.x.size] @ (w.solving[0] * w.x)
                     for w in windows])
    centres = np.array([w.hertz for w in windows])
    return np.asarray(network.slopes(centres).T - kept)


def _power(spectrum: ComplexArray) -> float:
    return float(np.vdot(spectrum, spectrum).real)


def _shared(fits: list[_Fit]) -> ComplexArray:
    """(n, n) lower triangle that turns white noise into that of the fits, each of unit strength: fits whose windows
    overlap share the noise of the bins they both use."""
    from scipy.sparse import csr_array

    ends = np.cumsum([0, *(fit.weights.size for fit in fits)])
    columns = np.concatenate([fit.first + np.arange(fit.weights.size) for fit in fits])
    values = np.concatenate([fit.weights / np.linalg.norm(fit.weights) for fit in fits])
    rows = csr_array((values, columns, ends))
    alike = (rows @ rows.conj().T).toarray()
    return np.asarray(np.linalg.cholesky(alike + 1e-9 * np.eye(len(fits))))
