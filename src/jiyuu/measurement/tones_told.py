"""What the tones of a stepped stimulus tell together: gains with how well each is known, the network between them, and
what of it still rang while they were heard."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.rational_fit import late_between_tones, refit, spread_over
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.tones_between import Between, between_tones
from jiyuu.measurement.tones_found import FEWEST_TONES
from jiyuu.measurement.tones_heard import HeardTone, broken, noise_near, unsettled
from jiyuu.measurement.tones_ringing import less_rings, rings_on, still_ahead
from jiyuu.measurement.waveform_faults import Hum, rounded_v

SYSTEMATIC = 2e-6  # share by which ringing and neighbours may move a tone
CLEAR, FAINT_DB = 4.0, 45.0  # standard deviations of a third harmonic; under the top: fainter ones bend nothing
ROUNDS, STOOD_STILL = 6, 0.2  # of a network that tells how tones still rang; of what a tone may be off by
BESIDE_HUM, UNSURE_OF_HUM = 1.5, 0.2  # widths of a line; share of one that is left, RMS
HARDLY = 100.0  # times less is no movement any more
ROUNDS_OF_A_GUESS, POLES_OF_A_GUESS = 12, (2, 4)
FAR_SAMPLES = 8  # less may be the filter's own, and is found with it


@dataclass(frozen=True, slots=True, eq=False)
class Recorded:
    """A recording of tones (n,), each as it was heard and where it was played, in the order of their pitch; step_v: of
    the recorder; hum: that was taken out; wanted_hz (m,): where the gain between them is wanted."""

    stimulus_v: FloatArray
    places: list[slice]
    heard: list[HeardTone]
    step_v: float
    hum: Hum | None
    wanted_hz: FloatArray
    sample_rate_hz: float
    draws: int

    def told(self) -> Told:
        """Less what still rang while they were heard, as far as they tell it.

        Raises MeasurementError where most of them break off."""
        told = Told.of(self.heard, self)
        try:
            return self._settled(told)
        except MeasurementError:  # they break off only less what a network says of them: it is not theirs
            return told

    def _settled(self, told: Told) -> Told:
        """Raises MeasurementError where most of them break off then."""
        looked, gains = told, [told.gain]  # with a network that was looked for, not only brought nearer
        played: Played | None = None
        for count in range(2 * ROUNDS):
            network = told.between.network
            if network is None or not rings_on(network.fit, self.places, self.sample_rate_hz):
                return told
            if count >= ROUNDS and len(gains) >= 3:
                break
            played = played or Played.of(self.stimulus_v, self.sample_rate_hz)
            tones = less_rings(network.fit, played, list(zip(self.places, self.heard, strict=True)), told.later,
                               self.sample_rate_hz)
            again = Told.of(tones, self, like=told)
            if not again.rings_as(told):
                return looked  # it led astray
            gains, told = [*(gains if again.beside(told) else []), again.gain], again
            if len(gains) < 2:
                continue
            # By small steps it may yet go far.
            moved = gains[-1] - gains[-2]
            ahead = 10 * moved if len(gains) < 3 else still_ahead(gains, told.spread)[0]
            if (ahead.any() and told.stands(ahead)) or told.stands(HARDLY * moved):
                if told.beside(looked) and told.stands(told.gain - looked.gain):
                    return told
                afresh = Told.of(tones, self)
                if not afresh.rings_as(told):
                    return looked
                if afresh.has_order_of(told):
                    return afresh
                gains, told, looked = [afresh.gain], afresh, afresh
        if len(gains) < 3:
            return told
        ahead, doubt = still_ahead(gains, told.spread)
        turn = np.exp(-2j * np.pi * told.frequency_hz * told.later / self.sample_rate_hz)
        there = [tone.moved(complex(more) * tone.into) for tone, more in zip(told.heard, ahead * turn, strict=True)]
        tries = (Told.of(tones, self, doubt=unsure)
                 for tones, unsure in ((there, doubt), (told.heard, doubt + np.abs(ahead))))
        return next((one for one in tries if one.rings_as(told)), told)


@dataclass(frozen=True, slots=True, eq=False)
class Told:
    """What tones that last (n,) tell together: frequency_hz, gain, spread, times (n,), what a soft stage may have bent
    (n,), the samples by which the recording lags more, and what is between them; gone: those that broke off."""

    heard: list[HeardTone]
    gone: list[HeardTone]
    frequency_hz: FloatArray
    gain: ComplexArray
    spread: FloatArray
    times: FloatArray
    bent: FloatArray
    later: int
    between: Between

    @classmethod
    def of(
        cls, tones: list[HeardTone], recorded: Recorded, *, like: Told | None = None, doubt: FloatArray | None = None
    ) -> Told:
        """like: what they told before they were moved a little, whose network need only be brought nearer; doubt: of
        every gain, on top. Raises MeasurementError where most of them break off."""
        near_v, rate_hz = noise_near(tones, recorded.sample_rate_hz), recorded.sample_rate_hz
        breaks = broken(tones, near_v)
        heard = [tone for i, tone in enumerate(tones) if i not in breaks]
        if len(heard) < FEWEST_TONES:
            raise MeasurementError("Most tones break off; check cable and buffer and record again.")
        if breaks:
            near_v = noise_near(heard, rate_hz)
        bent = _bent(heard, near_v, _beside(recorded.hum, heard, 3, rate_hz) > 0)
        spread = _spread(heard, near_v, recorded.step_v, bent, rate_hz)
        by_hum_v = UNSURE_OF_HUM * _beside(recorded.hum, heard, 1, rate_hz)
        spread = np.hypot(spread, by_hum_v / np.abs([tone.into for tone in heard]))
        if doubt is not None and doubt.size == spread.size:
            spread = np.hypot(spread, doubt)
        frequency_hz, gain, times = (np.array([getattr(tone, name) for tone in heard])
                                     for name in ("hertz", "gain", "played_s"))
        later = _later(frequency_hz, gain, spread, rate_hz) if like is None else like.later
        gain = gain * np.exp(2j * np.pi * frequency_hz * later / rate_hz)
        between = between_tones(frequency_hz, gain, spread, times, recorded.wanted_hz, recorded.draws,
                                like=None if like is None else like.between)
        return cls(heard, [tones[i] for i in breaks], frequency_hz, gain, spread, times, bent, later, between)

    def rings_as(self, other: Told) -> bool:
        """Whether their networks ring alike: the zeros that faint tones tell of may come and go."""
        mine, its = self.between.network, other.between.network
        return mine is not None and its is not None and (mine.fit.order.poles, mine.fit.order.at_rest) == (
            its.fit.order.poles, its.fit.order.at_rest)

    def has_order_of(self, other: Told) -> bool:
        """Whether their networks have as many zeros as well."""
        mine, its = self.between.network, other.between.network
        return mine is not None and its is not None and mine.fit.order == its.fit.order

    def beside(self, other: Told) -> bool:
        """Whether their gains can be compared."""
        return self.gain.size == other.gain.size and self.later == other.later

    def stands(self, moved: ComplexArray) -> bool:
        """Whether gains that move so much (n,) stand still, by how well they are known."""
        return bool(np.all(np.abs(moved) < STOOD_STILL * self.spread))


def _spread(
    heard: list[HeardTone], near_v: FloatArray, step_v: float, bent: FloatArray, sample_rate_hz: float
) -> FloatArray:
    """(n,) RMS of both parts of every gain together, by noise, steps, ringing and what a stage may have bent; a tone
    without any of them is still not known without end."""
    rings_v = unsettled(heard, near_v)
    by_step_v = np.array([_rounded_v(tone, step_v, sample_rate_hz) for tone in heard])
    by_noise_v = 2 * near_v / np.sqrt([tone.left.size for tone in heard])
    moved_v = np.sqrt(by_noise_v**2 + by_step_v**2 + rings_v**2)
    into, gain = np.abs([tone.into for tone in heard]), np.abs([tone.gain for tone in heard])
    return np.asarray(np.hypot(moved_v / into, (SYSTEMATIC + bent) * gain))


def _later(frequency_hz: FloatArray, gain: ComplexArray, spread: FloatArray, sample_rate_hz: float) -> int:
    """By how many samples more the recording lags than it seemed by its loudness, where its phases say so and a filter
    of few poles comes nearer by it: in a narrow band the ring is loudest, long after a tone begins."""
    unit_hz = float(np.sqrt(frequency_hz[0] * frequency_hz[-1]))
    late = late_between_tones(frequency_hz, gain, spread)
    samples = round(late / (2 * np.pi * unit_hz) * sample_rate_hz)
    if abs(samples) <= FAR_SAMPLES:
        return 0
    least = [min(refit(frequency_hz, gain, spread, np.zeros(gain.size), spread_over(frequency_hz, count),
                       np.array([delay, 0.0]), rounds=ROUNDS_OF_A_GUESS).left for count in POLES_OF_A_GUESS)
             for delay in (0.0, late)]
    return samples if least[1] < least[0] else 0


def _rounded_v(tone: HeardTone, step_v: float, sample_rate_hz: float) -> float:
    """By how much rounding may move a tone: as any line, and, where little noise goes with it, as the few values do
    that a period and the samples in it have in common."""
    if not step_v:
        return 0.0
    alike = min(Fraction(tone.hertz / sample_rate_hz).limit_denominator(tone.left.size).denominator, tone.left.size)
    noise_in_steps = max((tone.noise_v / step_v) ** 2 - 1 / 12, 0.0)
    again_v = 2 * step_v / np.sqrt(12 * alike) * np.exp(-2 * np.pi**2 * noise_in_steps)
    return float(np.hypot(rounded_v(abs(tone.out), tone.noise_v, step_v), again_v))


def _beside(hum: Hum | None, heard: list[HeardTone], harmonic: int, sample_rate_hz: float) -> FloatArray:
    """(n,) peak volts of the line of hum that lies so near a harmonic of each tone that what is left of it is taken for
    that; 0 where none does."""
    found = np.zeros(len(heard))
    if hum is None:
        return found
    for number, cosine, sine in hum.lines:
        for i, tone in enumerate(heard):
            if abs(harmonic * tone.hertz - number * hum.mains_hz) < BESIDE_HUM * sample_rate_hz / tone.left.size:
                found[i] = np.hypot(cosine, sine)
    return found


def _bent(heard: list[HeardTone], near_v: FloatArray, untold: NDArray[np.bool_]) -> FloatArray:
    """(n,) what of every tone a soft stage may have taken, by its third harmonic: made behind the filter it is as it
    was made, made before it the filter has had it. untold (n,): whose third harmonic tells nothing; they are bent as
    their neighbours are."""
    hertz = np.array([tone.hertz for tone in heard])
    size, into, third = (np.array([abs(getattr(tone, name)) for tone in heard]) for name in ("out", "into", "third_v"))
    gain = size / into
    third = np.where(third > CLEAR * 2 * near_v / np.sqrt([tone.left.size for tone in heard]), third, 0.0)
    there = np.interp(np.log(3 * hertz), np.log(hertz), gain, right=0.0)
    least = 10 ** (-FAINT_DB / 20) * gain.max()
    before = np.where(there > least, third / into / np.maximum(there, 1e-12), 0.0)
    bent = np.asarray(3 * np.maximum(before, third / size) * (gain > least))
    if untold.any() and not untold.all():
        bent[untold] = np.interp(np.log(hertz[untold]), np.log(hertz[~untold]), bent[~untold])
    return bent
