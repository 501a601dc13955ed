"""What a filter has between the tones that were played, and whether its gain changed meanwhile: by the network that
fits them all, since a dozen tones an octave are too few for splines to follow a sharp peak or a notch."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.bin_groups import Spectrum
from jiyuu.measurement.estimate import FittedNetwork, nearer_by, network_of
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.network_search import with_one_more
from jiyuu.measurement.rational_fit import (
    FEW_POLES,
    PolesAndZeros,
    RationalFit,
    fit_rational,
    likely_delays,
    poles_and_zeros,
    refit,
    spread_over,
)
from jiyuu.measurement.tones_ringing import Rings
from jiyuu.measurement.uncertain import Uncertain

FITS = 3.0  # standard deviations of the noise that a network may leave over and still be the one
STEP_POLES, STEP_ROUNDS, STOOD_STILL = (2, 4, 6), 12, 1e-3  # tried beside a change of gain
COARSELY = 4  # tones between the places tried first
STEP_FITS, STEP_TELLS = 5.0, 0.3  # what may be left beside a change of gain, and as a share of what is left without
LEAST_STEP_DB = 0.02
RIPPLE = 3e-5  # of a gain, from tone to tone


@dataclass(frozen=True, slots=True)
class GainStep:
    """A change of gain in nepers at a tone, by its place among them in the order of their pitch; rising: whether they
    were played upwards."""

    place: int
    nepers: float
    rising: bool

    @property
    def raised_db(self) -> float:
        return float(20 * self.nepers / np.log(10))

    def behind(self, count: int) -> FloatArray:
        """(count,) 1 for tones that were played after it."""
        at = np.arange(count)
        return np.asarray(at > self.place if self.rising else at < self.place, dtype=float)


@dataclass(frozen=True, slots=True, eq=False)
class Between:
    """gain (n,) at at_hz (n,), and as it might as well be, drawn (draws, n); network: where one leaves no more than the
    noise, None where no filter has these gains; step: where the gain changed, if only that lets one fit; clock_ppm: how
    much too fast the recorder still was by the network, of which drift_s from the first tone to the last was known
    before that."""

    at_hz: FloatArray
    gain: ComplexArray
    drawn: ComplexArray
    network: FittedNetwork | None
    step: GainStep | None
    clock_ppm: Uncertain | None = None
    drift_s: float = 0.0


@dataclass(frozen=True, slots=True, eq=False)
class Gains:
    """gain (n,) of tones at frequency_hz (n,), the RMS of what each may be off by, and when they were played; rings: of
    them, where what was heard of those is in the gain, which was turned back by `ahead_s` then."""

    frequency_hz: FloatArray
    gain: ComplexArray
    spread: FloatArray
    time_s: FloatArray
    rings: Rings | None = None
    ahead_s: float = 0.0

    @property
    def span_s(self) -> float:
        return float(np.ptp(self.time_s))

    @property
    def later(self) -> FloatArray:
        """(n,) by how much of the span each was played later than the middle."""
        return np.asarray((self.time_s - self.time_s.mean()) / self.span_s)

    def turned_back(self, samples: int, sample_rate_hz: float) -> Gains:
        """As if the tones had come so many samples earlier."""
        ahead_s = samples / sample_rate_hz
        return replace(self, gain=self.gain * np.exp(2j * np.pi * self.frequency_hz * ahead_s), ahead_s=ahead_s)

    def less(self, step: GainStep) -> Gains:
        """As if their gain had not changed; without the one while which it may have."""
        kept = np.flatnonzero(np.arange(self.gain.size) != step.place)
        gain = self.gain * np.exp(-step.nepers * step.behind(self.gain.size))
        rings = None if self.rings is None else self.rings.some(kept)
        return Gains(self.frequency_hz[kept], gain[kept], self.spread[kept], self.time_s[kept], rings, self.ahead_s)

    def spectrum(self, drift_s: float) -> Spectrum:
        """All by nearly one clock, by which they were so much later from the first to the last."""
        turned = self.gain * np.exp(2j * np.pi * self.frequency_hz * drift_s * self.later)
        sounds_s = self.later * self.span_s
        rings = None if self.rings is None else self.rings.turned(self.ahead_s + drift_s * self.later, sounds_s)
        return Spectrum(self.frequency_hz, turned, np.ones(turned.size), self.spread**2, sounds_s=sounds_s, rings=rings)


def between_tones(gains: Gains, wanted_hz: FloatArray, draws: int) -> Between:
    """At wanted_hz (n,): by the network that the tones tell of, or by splines where none fits."""
    step: GainStep | None = None
    fit = _rational(gains)
    if fit.left > FITS or fit.poles.size > FEW_POLES:
        # It may have lost its way, or taken a delay for poles, where a network of the usual shape does not.
        found = _by_network(gains, _drift_s(fit), None, step, wanted_hz, draws)
        if found is not None:
            return found
        step = _gain_step(gains.frequency_hz, gains.gain, gains.spread, gains.later, fit.left)
        if step is not None:
            gains = gains.less(step)
            fit = _rational(gains)
    noise = _noise(gains, draws)
    if fit.left < FITS:
        known = poles_and_zeros(replace(fit, unit_hz=1.0)) if fit.poles.size <= FEW_POLES else None
        found = _by_network(gains, _drift_s(fit), known, step, wanted_hz, draws)
        if found is not None:
            return found
        there = fit.at(gains.frequency_hz)
        doubt = max(fit.left, 1.0)
        again = [refit(gains.frequency_hz, there + doubt * one, gains.spread, gains.later, fit.poles, fit.delay)
                 for one in noise]
        # With more poles than a filter has nearly anything is followed: that vouches for nothing.
        return Between(wanted_hz, fit.at(wanted_hz), np.stack([one.at(wanted_hz) for one in again]), None, step)
    at, octave = np.log2(gains.frequency_hz), np.log2(wanted_hz)
    # Every other tone foretells the ones between; with all of them the spline is off by a sixteenth of that.
    missed = np.abs(_between(at[::2], gains.gain[::2], at) - gains.gain) / 16
    wider = np.hypot(gains.spread, np.maximum(missed, np.roll(missed, 1))) / gains.spread
    drawn = np.stack([_between(at, one, octave) for one in gains.gain + noise * wider])
    return Between(wanted_hz, _between(at, gains.gain, octave), drawn, None, step)


def between_rings(gains: Gains, like: Between, wanted_hz: FloatArray, draws: int) -> Between | None:
    """The same by a network that is nearly known, and by its rings, where some were heard; None where those are not
    its own."""
    if like.network is None:
        return None
    if like.step is not None:
        gains = gains.less(like.step)
    network = nearer_by(gains.spectrum(like.drift_s), like.network.fit)
    return None if network is None else _by(network, gains, like.drift_s, like.step, wanted_hz, draws)


def _by_network(
    gains: Gains, drift_s: float, known: PolesAndZeros | None, step: GainStep | None, wanted_hz: FloatArray, draws: int
) -> Between | None:
    """As between_tones."""
    spectrum = gains.spectrum(drift_s)
    network = network_of(spectrum, known)
    if network is None:  # but for the ripple of a converter's band, that no few poles have
        rippled = spectrum.variance + (RIPPLE * np.abs(spectrum.gain)) ** 2
        spectrum = replace(spectrum, variance=rippled)
        network = network_of(spectrum, known)
    if network is None:
        return None
    if network.order.poles % 2:
        network = with_one_more(spectrum, network)
    return _by(network, gains, drift_s, step, wanted_hz, draws)


def _by(
    network: NetworkFit, gains: Gains, drift_s: float, step: GainStep | None, wanted_hz: FloatArray, draws: int
) -> Between:
    generator = np.random.default_rng(22)  # fixed: the same files give the same uncertainty
    networks = network.drawn(draws, generator)
    drawn = np.stack([one.at(wanted_hz) for one in networks])
    rest = network.clock_ppm
    ppm = None if rest is None else replace(rest, value=rest.value + 1e6 * drift_s / gains.span_s)
    return Between(wanted_hz, network.at(wanted_hz), drawn, FittedNetwork(network, networks), step, ppm, drift_s)


def _noise(gains: Gains, draws: int) -> ComplexArray:
    """(draws, n) such as may be in the gains."""
    generator = np.random.default_rng(22)  # fixed: the same files give the same uncertainty
    pair = generator.standard_normal((2, draws, gains.gain.size)) / np.sqrt(2)
    return np.asarray((pair[0] + 1j * pair[1]) * gains.spread)


def _rational(gains: Gains) -> RationalFit:
    return fit_rational(gains.frequency_hz, gains.gain, gains.spread, gains.later)


def _drift_s(fit: RationalFit) -> float:
    """By how much tones were later from the first to the last."""
    return float(fit.delay[1] / (2 * np.pi * fit.unit_hz))


def _gain_step(
    frequency_hz: FloatArray, gain: ComplexArray, spread: FloatArray, later: FloatArray, left: float
) -> GainStep | None:
    """Where one change of gain lets a filter of few poles explain the tones that none explains without."""
    rising = bool(later[-1] > later[0])

    likely = likely_delays(frequency_hz, gain, spread)

    def tried(place: int, count: int) -> tuple[float, GainStep]:
        step = GainStep(place, 0.0, rising)
        aside = np.where(np.arange(gain.size) == place, 1e6, 1.0)
        fits = [refit(frequency_hz, gain, spread * aside, later, spread_over(frequency_hz, count),
                      np.array([delay, 0.0]), rounds=STEP_ROUNDS, raised=step.behind(gain.size), still=STOOD_STILL)
                for delay in (likely[0], likely[2], likely[4])]
        fit = min(fits, key=lambda fit: fit.left)
        return fit.left, replace(step, nepers=float(fit.delay[2]))

    best: tuple[float, GainStep] | None = None
    for count in STEP_POLES:
        places = range(COARSELY, gain.size - COARSELY, COARSELY)
        rough = min((tried(place, count) for place in places), key=lambda one: one[0], default=None)
        if rough is None:
            continue
        around = range(max(rough[1].place - COARSELY, 2), min(rough[1].place + COARSELY + 1, gain.size - 2))
        fine = min((tried(place, count) for place in around), key=lambda one: one[0])
        if best is None or fine[0] < best[0]:
            best = fine
        if best[0] < FITS:
            break
    if best is None or best[0] > min(STEP_FITS, STEP_TELLS * left) or abs(best[1].raised_db) < LEAST_STEP_DB:
        return None
    return best[1]


def _between(at: FloatArray, gain: ComplexArray, octave: FloatArray) -> ComplexArray:
    """Level in dB and unwound phase between the tones, by cubic splines over octaves."""
    level = scipy.interpolate.CubicSpline(at, np.log(np.maximum(np.abs(gain), 1e-15)))(octave)
    phase = scipy.interpolate.CubicSpline(at, np.unwrap(np.angle(gain)))(octave)
    return np.asarray(np.exp(level + 1j * phase))
