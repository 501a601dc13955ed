"""What the tones of a stepped stimulus tell together: gains with how well each is known, the network between them, and
what of it still rang while they were heard."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.mains_hum import Hum
from jiyuu.measurement.rational_fit import late_between_tones, refit, spread_over
from jiyuu.measurement.tones_between import Between, Gains, between_rings, between_tones
from jiyuu.measurement.tones_found import FEWEST_TONES
from jiyuu.measurement.tones_heard import HeardTone, broken, noise_near, unsettled
from jiyuu.measurement.tones_ringing import Rings
from jiyuu.measurement.waveform_faults import rounded_v

SYSTEMATIC = 2e-6  # share by which ringing and neighbours may move a tone
CLEAR, FAINT_DB = 4.0, 45.0  # standard deviations of a third harmonic; under the top: fainter ones bend nothing
LOOKED_FOR, ROUNDS = 3, 4  # networks; of one that tells how tones still rang, and so how well they are known
EXPLAINED = 1.1  # standard deviations of the noise: a network that leaves no more is not looked for again
STOOD_STILL = 0.2  # of what a tone may be off by
BESIDE_HUM, UNSURE_OF_HUM = 1.5, 0.2  # widths of a line; share of one that is left, RMS
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

    def told(self, near: Told | None = None, *, roughly: bool = False) -> Told:
        """What they tell, with what still rang while they were heard; near: what they told by nearly that
        clock; roughly: by a clock that is not known yet.

        Raises MeasurementError where most of them break off."""
        rings = Rings.of(self.stimulus_v, self.places, self.heard, self.sample_rate_hz)
        told = Told.of(self.heard, self) if near is None else near
        found: Told | None = None
        for _ in range(LOOKED_FOR):
            network = told.between.network
            known = near is not None and found is None
            if network is None or not (known or rings.last(network.fit.poles)):
                break
            settled = self._settled(told, rings, known=known)
            if settled is None and (known or roughly):
                break
            found, less = settled or (found, told.less_rings(self, rings))  # nearly so, it may be another's
            lasting = Lasting.of(less, self)
            if lasting is None or (settled is not None and settled[0].left < EXPLAINED):
                break
            before, told = told, Told.by_themselves(lasting, self)
            if told.between.network is None or told.has_order_of(found or before):
                break
        if found is None and near is not None:  # it was another's
            return self.told()
        network = told.between.network
        rings_otherwise = found is None and network is not None and rings.last(network.fit.poles)
        return found or replace(told, rings_otherwise=rings_otherwise)

    def _settled(self, told: Told, rings: Rings, *, known: bool) -> tuple[Told, list[HeardTone]] | None:
        """(what they tell by a network like that with its rings, the tones without those), None where none is like
        it; known: whether those rings are nearly its own."""
        network = told.between.network
        rung_out = network is not None and rings.last(network.fit.poles)  # at first: what rings is what is looked for
        tones = told.less_rings(self, rings) if known else self.heard
        for _ in range(ROUNDS):
            again = told.with_rings(tones, self, rings, rung_out=rung_out)
            if again is None and rung_out:  # too far off for what is known so nearly
                rung_out, again = False, told.with_rings(tones, self, rings, rung_out=False)
            if again is None:
                return None
            before, tones, told = tones, again.less_rings(self, rings), again
            moved = np.abs([now.gain - then.gain for now, then in zip(tones, before, strict=True)])
            if not rung_out and np.all(moved[told.lasting.kept] < STOOD_STILL * told.lasting.by_noise):
                break
            rung_out = False
        return told, tones


@dataclass(frozen=True, slots=True, eq=False)
class Told:
    """What tones that last tell together; later: the samples by which the recording lags more than it seemed;
    rings_otherwise: whether what still rings in them is not what their network says."""

    lasting: Lasting
    later: int
    between: Between
    rings_otherwise: bool = False

    @classmethod
    def of(cls, tones: list[HeardTone], recorded: Recorded) -> Told:
        """Raises MeasurementError where most of them break off."""
        lasting = Lasting.of(tones, recorded)
        if lasting is None:
            raise MeasurementError("Most tones break off; check cable and buffer and record again.")
        return cls.by_themselves(lasting, recorded)

    @classmethod
    def by_themselves(cls, lasting: Lasting, recorded: Recorded) -> Told:
        """As if none of them rang, or all were known without."""
        later = _later(lasting.gains, recorded.sample_rate_hz)
        gains = lasting.gains.turned_back(later, recorded.sample_rate_hz)
        return cls(lasting, later, between_tones(gains, recorded.wanted_hz, recorded.draws))

    def with_rings(
        self, tones: list[HeardTone], recorded: Recorded, rings: Rings, *, rung_out: bool
    ) -> Told | None:
        """By a network like this and its rings, None where they are not its own or most tones break off then; tones: as
        nearly without those as they are known; rung_out: whether nothing but those still rings in them."""
        lasting = Lasting.of(tones, recorded)
        if lasting is None:
            return None
        as_heard = np.array([recorded.heard[i].gain for i in lasting.kept])
        gains = replace(lasting.gains, gain=as_heard, rings=rings.some(lasting.kept),
                        spread=lasting.by_noise if rung_out else lasting.gains.spread)
        between = between_rings(gains.turned_back(self.later, recorded.sample_rate_hz), self.between,
                                recorded.wanted_hz, recorded.draws)
        return None if between is None else Told(lasting, self.later, between)

    @property
    def left(self) -> float:
        """What the network leaves, in standard deviations."""
        return np.inf if self.between.network is None else self.between.network.fit.left

    def by_its_clock(self, later: int) -> Told:
        """As if the recording had been brought to the clock that was found, and lagged by so many samples more then."""
        return replace(self, later=later, between=replace(self.between, clock_ppm=None, drift_s=0.0))

    def less_rings(self, recorded: Recorded, rings: Rings) -> list[HeardTone]:
        """All tones less what the network says of its rings."""
        if self.between.network is None:
            return recorded.heard
        network, rate_hz, clock = self.between.network.fit, recorded.sample_rate_hz, self.between.clock_ppm
        fast = 0.0 if clock is None else 1e-6 * clock.value
        sounds_s = np.array([tone.played_s for tone in recorded.heard]) - self.lasting.gains.time_s.mean()
        delay_s = network.delay_s + self.later / rate_hz + fast * sounds_s
        waves_v = rings.waves_v(*network.rings(rings.waits_s), np.asarray(delay_s))
        return [tone.less(wave_v, rate_hz) for tone, wave_v in zip(recorded.heard, waves_v, strict=True)]

    def has_order_of(self, other: Told) -> bool:
        """Whether their networks have as many poles and zeros."""
        mine, its = self.between.network, other.between.network
        return mine is not None and its is not None and mine.fit.order == its.fit.order


@dataclass(frozen=True, slots=True, eq=False)
class Lasting:
    """Those of the tones that last as they began, their places among all (n,), and those that do not; what a soft stage
    may have bent of each (n,); by_noise (n,): what the gains' spread is but for what still rings."""

    kept: NDArray[np.int64]
    heard: list[HeardTone]
    gone: list[HeardTone]
    gains: Gains
    by_noise: FloatArray
    bent: FloatArray

    @classmethod
    def of(cls, tones: list[HeardTone], recorded: Recorded) -> Lasting | None:
        """None where most of them break off."""
        near_v, rate_hz = noise_near(tones), recorded.sample_rate_hz
        breaks = broken(tones, near_v)
        kept = np.array([i for i in range(len(tones)) if i not in breaks], dtype=np.int64)
        heard = [tones[i] for i in kept]
        if len(heard) < FEWEST_TONES:
            return None
        if breaks:
            near_v = noise_near(heard)
        hertz, gain, into, played_s = (np.array([getattr(tone, name) for tone in heard])
                                       for name in ("hertz", "gain", "into", "played_s"))
        bent = _bent(heard, near_v, _beside(recorded.hum, heard, 3, rate_hz) > 0)
        by_step_v = np.array([_rounded_v(tone, recorded.step_v, rate_hz) for tone in heard])
        by_noise_v = 2 * near_v / np.sqrt([tone.left.size for tone in heard])
        by_hum_v = UNSURE_OF_HUM * _beside(recorded.hum, heard, 1, rate_hz)
        moved_v = np.sqrt(by_noise_v**2 + by_step_v**2 + by_hum_v**2)
        # A tone without any of them is still not known without end.
        by_noise = np.asarray(np.hypot(moved_v / np.abs(into), (SYSTEMATIC + bent) * np.abs(gain)))
        spread = np.asarray(np.hypot(by_noise, unsettled(heard, near_v) / np.abs(into)))
        return cls(kept, heard, [tones[i] for i in breaks], Gains(hertz, gain, spread, played_s), by_noise, bent)


def _later(gains: Gains, sample_rate_hz: float) -> int:
    """By how many samples more the recording lags than it seemed by its loudness, where its phases say so and a filter
    of few poles comes nearer by it: in a narrow band the ring is loudest, long after a tone begins."""
    frequency_hz, gain, spread = gains.frequency_hz, gains.gain, gains.spread
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
