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
    fit_rational,
    likely_delays,
    poles_and_zeros,
    refit,
    spread_over,
)
from jiyuu.measurement.uncertain import Uncertain

FITS = 3.0  # standard deviations of the noise that a network may leave over and still be the one
STEP_POLES, STEP_ROUNDS, STOOD_STILL = (2, 4, 6), 12, 1e-3  # tried beside a change of gain
COARSELY = 4  # tones between the places tried first
STEP_FITS, STEP_TELLS = 5.0, 0.3  # what may be left beside a change of gain, and as a share of what is left without
LEAST_STEP_DB = 0.02


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
    """gain (n,), and as it might as well be (draws, n); network: where one leaves no more than the noise, None where no
    filter has these gains; step: where the gain changed, if only that lets one fit; clock_ppm: how much too fast the
    recorder still was by the network, of which drift_s from the first tone to the last was known before that."""

    gain: ComplexArray
    drawn: ComplexArray
    network: FittedNetwork | None
    step: GainStep | None
    clock_ppm: Uncertain | None = None
    drift_s: float = 0.0


def between_tones(
    frequency_hz: FloatArray, gain: ComplexArray, spread: FloatArray, time_s: FloatArray, wanted_hz: FloatArray,
    draws: int, *, like: Between | None = None,
) -> Between:
    """At wanted_hz (n,), from tones (m,) with the RMS of what each may be off by, and when they were played: by the
    network that they tell of, or by splines where none fits. like: what was between nearly the same tones, whose
    network is taken if it can be brought so near that it fits."""
    generator = np.random.default_rng(22)  # fixed: the same files give the same uncertainty
    pair = generator.standard_normal((2, draws, gain.size)) / np.sqrt(2)
    noise = (pair[0] + 1j * pair[1]) * spread
    later = (time_s - time_s.mean()) / np.ptp(time_s)  # what of the clocks' difference was not found yet
    span_s = float(np.ptp(time_s))

    def by_network(drift_s: float, near: NetworkFit | None, known: PolesAndZeros | None) -> Between | None:
        together = gain * np.exp(2j * np.pi * frequency_hz * drift_s * later)  # all by nearly one clock
        spectrum = Spectrum(frequency_hz, together, np.ones(gain.size), spread**2, sounds_s=later * span_s)
        network = network_of(spectrum, known) if near is None else nearer_by(spectrum, near)
        if network is None:
            return None
        if near is None and network.order.poles % 2:
            network = with_one_more(spectrum, network)
        networks = network.drawn(draws, generator)
        drawn = np.stack([one.at(wanted_hz) for one in networks])
        rest = network.clock_ppm
        ppm = None if rest is None else replace(rest, value=rest.value + 1e6 * drift_s / span_s)
        return Between(network.at(wanted_hz), drawn, FittedNetwork(network, networks), step, ppm, drift_s)

    step: GainStep | None = None
    if like is not None and like.network is not None and like.step is None:
        nearer = by_network(like.drift_s, like.network.fit, None)
        if nearer is not None:
            return nearer
    fit = fit_rational(frequency_hz, gain, spread, later)
    if fit.left > FITS:  # it may have lost its way where a network of the usual shape does not
        found = by_network(fit.delay[1] / (2 * np.pi * fit.unit_hz), None, None)
        if found is not None:
            return found
    if fit.left > FITS or fit.poles.size > FEW_POLES:
        step = _gain_step(frequency_hz, gain, spread, later, fit.left)
        if step is not None:
            gain = gain * np.exp(-step.nepers * step.behind(gain.size))
            kept = np.arange(gain.size) != step.place  # it may have changed while that one sounded
            frequency_hz, gain, spread, later = frequency_hz[kept], gain[kept], spread[kept], later[kept]
            noise = noise[:, kept]
            fit = fit_rational(frequency_hz, gain, spread, later)
    if fit.left < FITS:
        known = poles_and_zeros(replace(fit, unit_hz=1.0)) if fit.poles.size <= FEW_POLES else None
        found = by_network(fit.delay[1] / (2 * np.pi * fit.unit_hz), None, known)
        if found is not None:
            return found
        there = fit.at(frequency_hz)
        doubt = max(fit.left, 1.0)
        again = [refit(frequency_hz, there + doubt * one, spread, later, fit.poles, fit.delay) for one in noise]
        # With more poles than a filter has nearly anything is followed: that vouches for nothing.
        return Between(fit.at(wanted_hz), np.stack([one.at(wanted_hz) for one in again]), None, step)
    at, octave = np.log2(frequency_hz), np.log2(wanted_hz)
    # Every other tone foretells the ones between; with all of them the spline is off by a sixteenth of that.
    missed = np.abs(_between(at[::2], gain[::2], at) - gain) / 16
    wider = np.hypot(spread, np.maximum(missed, np.roll(missed, 1))) / spread
    drawn = np.stack([_between(at, one, octave) for one in gain + noise * wider])
    return Between(_between(at, gain, octave), drawn, None, step)


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
