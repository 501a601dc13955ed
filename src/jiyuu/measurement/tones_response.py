"""Frequency response from stepped tones: one frequency after the other, each fitted where it is steady."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from jiyuu.arrays import Complex64Array, ComplexArray, Float32Array, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import at_player_clock
from jiyuu.measurement.distortion_orders import Compression
from jiyuu.measurement.estimate import Estimate
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.rational_fit import late_between_tones, refit, spread_over
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.tones_between import Between, between_tones
from jiyuu.measurement.tones_clock import MOST_PPM, RISING_S, clock_of, pitch_of, silent_v_of
from jiyuu.measurement.tones_heard import HeardTone, broken, heard_tone, less_hum, noise_near, steady_part, unsettled
from jiyuu.measurement.tones_ringing import less_rings, rings_on, still_ahead
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.waveform_faults import clipping, quantisation, rounded_v, step_of
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

FEWEST_TONES = 12
SHORTEST_S = 0.05
STEPS_OF_A_GATE = 40.0  # of the recorder, peak to peak, that the softest tone has left where a gate took others
SYSTEMATIC = 2e-6  # share by which ringing and neighbours may move a tone
BESIDE = 1.06  # how far beside a tone its absence is felt: half way to the next of a dozen an octave
CLEAR, FAINT_DB = 4.0, 45.0  # standard deviations of a third harmonic; under the top: fainter ones bend nothing
HUM_ROUNDS = 2
UNTOLD_PPM = 5.0  # of a clock by the pitch of tones, from which on it may be none
ROUNDS, STOOD_STILL = 6, 0.2  # of a network that tells how tones still rang; of what a tone may be off by
ROUNDS_OF_A_GUESS, POLES_OF_A_GUESS = 12, (2, 4)
GROSS_S = 0.005  # by which the loudest tones may be off the others
LOOKED_AT = 31  # every so manieth place tells what correlations usually are
FAR_SAMPLES = 8  # less may be the filter's own, and is found with it


def tones_of(stimulus_v: FloatArray, sample_rate_hz: float) -> list[slice]:
    """Where each tone of a stepped stimulus sounds; empty for any other stimulus."""
    loud = np.abs(stimulus_v) > 1e-3 * np.abs(stimulus_v).max()
    # A tone crosses zero: what is quiet for less than 10 ms is not a gap, and for low tones even 30 ms is not.
    places = np.flatnonzero(loud)
    gaps = np.flatnonzero(np.diff(places) > 0.01 * sample_rate_hz)
    starts = np.concatenate([[places[0]], places[gaps + 1]])
    stops = np.concatenate([places[gaps], [places[-1]]]) + 1
    found = [slice(int(a), int(b)) for a, b in zip(starts, stops, strict=True) if b - a >= SHORTEST_S * sample_rate_hz]
    if len(found) < FEWEST_TONES:
        return []
    # Tones have all of their power in one line; pieces of noise or sweep do not.
    for tone in (found[0], found[len(found) // 2], found[-1]):
        spectrum = np.abs(rfft(stimulus_v[tone] * np.hanning(tone.stop - tone.start))) ** 2
        top = int(np.argmax(spectrum))
        if spectrum[max(top - 6, 0) : top + 7].sum() < 0.95 * spectrum.sum():
            return []
    return found


@dataclass(frozen=True, slots=True, eq=False)
class ByTones:
    """place: samples that the recording lags; told_s: when in the recording the tones tell a delay; noise_db re the
    recording."""

    place: float
    ppm: Uncertain
    found: Estimate
    noise_db: float
    told_s: float
    notices: tuple[Notice, ...]
    compression: Compression | None


def estimate_by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float, *, draws: int,
    by_pitch: bool = True,
) -> ByTones:
    """by_pitch: whether their pitch tells the recorder's clock, before the network does. Raises MeasurementError when
    the tones are not in the recording or span less than an octave."""
    as_played = tones
    record = recording_v - recording_v.mean()
    stimulus = _Played.of(stimulus_v, record.size)
    lag = stimulus.lag(record, sample_rate_hz)
    notices, tones = _those_inside(tones, lag, record.size, sample_rate_hz)
    played = np.array([pitch_of(stimulus_v[steady_part(tone)], sample_rate_hz).value for tone in tones])
    ppm = clock_of(record, tones, played, lag, sample_rate_hz)
    if by_pitch and ppm.uncertainty > UNTOLD_PPM:  # beside a resonance that still rings a tone is heard as that
        with suppress(MeasurementError):
            unturned = estimate_by_tones(stimulus_v, recording_v, as_played, sample_rate_hz, draws=draws,
                                         by_pitch=False)
            if unturned.found.network is not None:
                return unturned
    if not by_pitch:
        ppm = Uncertain(0.0, MOST_PPM)
    if abs(ppm.value) > 0.02:
        record = at_player_clock(record, ppm.value)
        lag = stimulus.lag(record, sample_rate_hz)
        whole = [tone.start + lag >= 0 and tone.stop + lag <= record.size for tone in tones]
        tones, played = [tone for tone, inside in zip(tones, whole, strict=True) if inside], played[whole]
    del stimulus  # of a minute some megabytes
    order = np.argsort(played)
    if played[order[-1]] < 2 * played[order[0]] or (np.diff(played[order]) <= 0).any():
        raise MeasurementError("The tones must rise or fall over more than an octave, each played once.")
    silence = slice(0, max(tones[0].start + lag - round(RISING_S * sample_rate_hz), 0))
    clipped, _ = clipping(recording_v, silent_v_of(record[silence]))
    _, coarse = quantisation(recording_v, slice(0, recording_v.size))
    notices += [notice for notice in (clipped, coarse) if notice is not None]
    unheard = unheard_tones(recording_v, tones, lag, ppm.value)
    known = [int(i) for i in order if i not in unheard]
    if len(known) < FEWEST_TONES or played[known[-1]] < 2 * played[known[0]]:
        raise MeasurementError("Where most tones should sound nothing is recorded; take the gate out, turn the input "
                               "up and record again.")
    places = [tones[i] for i in known]
    record, heard, hum = _heard(stimulus_v, record, list(zip(places, played[known], strict=True)), lag, silence,
                                sample_rate_hz)
    notices += [] if hum is None else [hum]
    steps_v = step_of(recording_v) or 0.0
    octave = np.log2(heard[0].hertz) + np.arange(
        int(np.log2(heard[-1].hertz / heard[0].hertz) * POINTS_PER_OCTAVE) + 1) / POINTS_PER_OCTAVE
    told = _Told.of(heard, lag, steps_v, 2.0**octave, sample_rate_hz, draws)
    with suppress(MeasurementError):  # where they break off only less what a network says of them it is not theirs
        told = _settled(told, stimulus_v, record, places, heard, lag, steps_v, 2.0**octave, sample_rate_hz, draws)
    heard, gone, between, bent, times = told.heard, told.gone, told.between, told.bent, told.times
    later, frequency_hz = told.later, told.frequency_hz
    dropped = [tone.steady for tone in gone]
    if _gated(recording_v, tones, unheard, lag):
        dropped += [slice(tones[i].start + lag, tones[i].stop + lag) for i in unheard]
    if dropped:
        notices.append(Notice(Fault.DROPOUT, min(part.start for part in dropped) / sample_rate_hz, {
            "ms": 1e3 * sum(part.stop - part.start for part in dropped) / sample_rate_hz}))
    lost = [*played[unheard], *(tone.hertz for tone in gone)]
    if between.step is not None:
        at_s = float(times[between.step.place] + lag / sample_rate_hz)
        notices.append(Notice(Fault.GAIN_CHANGED, at_s, {"db": between.step.raised_db, "brought": 1.0}))
    deviation = np.sqrt(np.mean(np.abs(between.drawn - between.gain) ** 2, axis=0))
    signal = float(np.sqrt(np.mean(np.abs([tone.out for tone in heard]) ** 2) / 2))
    floor = float(np.median([tone.noise_v for tone in heard]))
    hurt = tuple((hertz / BESIDE, hertz * BESIDE) for hertz in lost if frequency_hz[0] < hertz < frequency_hz[-1])
    found = Estimate(2.0**octave, between.gain, deviation, between.drawn, 1, None, lag + later, between.network,
                     hurt_hz=((0.0, sample_rate_hz),) if clipped is not None else hurt)
    # What was not found of the clock turns about that moment.
    told_s = float(np.mean(times)) + lag / sample_rate_hz
    place = float(lag + later)
    if between.clock_ppm is not None:  # what all of them tell together, more than the pitch of each does
        ppm = replace(between.clock_ppm, value=ppm.value + between.clock_ppm.value)
        place -= 1e-6 * between.clock_ppm.value * told_s * sample_rate_hz
    return ByTones(place, ppm, found, float(20 * np.log10(max(floor, 1e-12) / max(signal, 1e-12))), told_s,
                   tuple(notices), Compression(np.interp(octave, np.log2(frequency_hz), bent)))


@dataclass(frozen=True, slots=True, eq=False)
class _Told:
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
        cls, tones: list[HeardTone], lag: int, step_v: float, wanted_hz: FloatArray, sample_rate_hz: float, draws: int,
        doubt: FloatArray | None = None,
    ) -> _Told:
        """doubt: of every gain, on top. Raises MeasurementError where most of them break off."""
        breaks = broken(tones, noise_near(tones, sample_rate_hz), sample_rate_hz)
        heard = [tone for i, tone in enumerate(tones) if i not in breaks]
        if len(heard) < FEWEST_TONES:
            raise MeasurementError("Most tones break off; check cable and buffer and record again.")
        near_v = noise_near(heard, sample_rate_hz)
        bent = _bent(heard, near_v)
        spread = _spread(heard, near_v, step_v, bent, sample_rate_hz)
        if doubt is not None and doubt.size == spread.size:
            spread = np.hypot(spread, doubt)
        frequency_hz, gain, times = (np.array([getattr(tone, name) for tone in heard])
                                     for name in ("hertz", "gain", "played_s"))
        later = _later(frequency_hz, gain, spread, sample_rate_hz)
        gain = gain * np.exp(2j * np.pi * frequency_hz * later / sample_rate_hz)
        between = between_tones(frequency_hz, gain, spread, times, wanted_hz, draws)
        return cls(heard, [tones[i] for i in breaks], frequency_hz, gain, spread, times, bent, later, between)

    def rings_as(self, other: _Told) -> bool:
        """Whether their networks ring alike: the zeros that faint tones tell of may come and go."""
        mine, its = self.between.network, other.between.network
        return mine is not None and its is not None and (mine.fit.order.poles, mine.fit.order.at_rest) == (
            its.fit.order.poles, its.fit.order.at_rest)


def _settled(
    told: _Told, stimulus_v: FloatArray, record_v: FloatArray, places: list[slice], heard: list[HeardTone], lag: int,
    step_v: float, wanted_hz: FloatArray, sample_rate_hz: float, draws: int,
) -> _Told:
    """The same less what still rang while the tones (n,) were heard, as far as they tell it. Raises MeasurementError
    where most of them break off then."""
    gains, rounds = [told.gain], 0
    while rounds < ROUNDS or (len(gains) < 3 and rounds < 2 * ROUNDS):
        rounds += 1
        network = told.between.network
        if network is None or not rings_on(network.fit, places, sample_rate_hz):
            return told
        tones = less_rings(network.fit, stimulus_v, record_v, list(zip(places, heard, strict=True)), lag, told.later,
                           sample_rate_hz)
        again = _Told.of(tones, lag, step_v, wanted_hz, sample_rate_hz, draws)
        if not again.rings_as(told):
            return told  # it led astray
        alike = again.gain.size == told.gain.size and again.later == told.later
        gains, told = [*(gains if alike else []), again.gain], again
        if alike:  # by small steps it may yet go far
            ahead = 10 * (gains[-1] - gains[-2]) if len(gains) < 3 else still_ahead(gains, told.spread)[0]
            if ahead.any() and np.all(np.abs(ahead) < STOOD_STILL * told.spread):
                return told
    if len(gains) < 3:
        return told
    ahead, doubt = still_ahead(gains, told.spread)
    turn = np.exp(-2j * np.pi * told.frequency_hz * told.later / sample_rate_hz)
    moved = [replace(tone, out=tone.out + complex(more) * tone.into)
             for tone, more in zip(told.heard, ahead * turn, strict=True)]
    tries = (_Told.of(tones, lag, step_v, wanted_hz, sample_rate_hz, draws, unsure)
             for tones, unsure in ((moved, doubt), (told.heard, doubt + np.abs(ahead))))
    return next((one for one in tries if one.rings_as(told)), told)


def _heard(
    stimulus_v: FloatArray, record_v: FloatArray, tones: list[tuple[slice, float]], lag: int, silence: slice,
    sample_rate_hz: float,
) -> tuple[FloatArray, list[HeardTone], Notice | None]:
    """(the record less its hum, tones as they came back in it, what is said of the hum) of tones in the order of their
    pitch: where each was played, and its hertz."""
    def all_in(record_v: FloatArray) -> list[HeardTone]:
        return [heard_tone(stimulus_v, record_v, tone, lag, hertz, sample_rate_hz) for tone, hertz in tones]

    heard, said = all_in(record_v), None
    for _ in range(HUM_ROUNDS):  # what a tone's own fit took of it shows once the rest is gone
        record_v, hum = less_hum(record_v, heard, silence, sample_rate_hz)
        if hum is None:
            break
        said, heard = said or hum, all_in(record_v)
    return record_v, heard, said


def _those_inside(
    tones: list[slice], lag: int, size: int, sample_rate_hz: float
) -> tuple[list[Notice], list[slice]]:
    """The tones that are whole in a recording of so many samples, and what is said of the others."""
    inside = [tone for tone in tones if tone.start + lag >= 0 and tone.stop + lag <= size]
    late, early = tones[0].start + lag < 0, tones[-1].stop + lag > size
    if len(inside) < FEWEST_TONES:
        raise MeasurementError(
            "The recording began after most of the tones were played; start recording first." if late else
            "The recording ends before the stimulus does; record until a second after it.")
    found = [Notice(Fault.STARTED_LATE, 0.0, {"late_s": -lag / sample_rate_hz})] if late else []
    return found + ([Notice(Fault.ENDED_EARLY, size / sample_rate_hz)] if early else []), inside


def _spread(
    heard: list[HeardTone], near_v: FloatArray, step_v: float, bent: FloatArray, sample_rate_hz: float
) -> FloatArray:
    """(n,) RMS of both parts of every gain together, by noise, steps, ringing and what a stage may have bent; a tone
    without any of them is still not known without end."""
    rings_v = unsettled(heard, near_v, sample_rate_hz)
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


def _bent(heard: list[HeardTone], near_v: FloatArray) -> FloatArray:
    """(n,) what of every tone a soft stage may have taken, by its third harmonic: made behind the filter it is as it
    was made, made before it the filter has had it."""
    hertz = np.array([tone.hertz for tone in heard])
    size, into, third = (np.array([abs(getattr(tone, name)) for tone in heard]) for name in ("out", "into", "third_v"))
    gain = size / into
    third = np.where(third > CLEAR * 2 * near_v / np.sqrt([tone.left.size for tone in heard]), third, 0.0)
    there = np.interp(np.log(3 * hertz), np.log(hertz), gain, right=0.0)
    least = 10 ** (-FAINT_DB / 20) * gain.max()
    before = np.where(there > least, third / into / np.maximum(there, 1e-12), 0.0)
    return np.asarray(3 * np.maximum(before, third / size) * (gain > least))


def _gated(recording_v: FloatArray, tones: list[slice], unheard: list[int], lag: int) -> bool:
    """Whether a gate took the unheard tones away: where others are hardly louder than the recorder's steps they fell
    under them by themselves."""
    softest = min(float(np.ptp(recording_v[max(tone.start + lag, 0) : tone.stop + lag]))
                  for i, tone in enumerate(tones) if i not in unheard)
    return bool(unheard) and softest >= STEPS_OF_A_GATE * (step_of(recording_v) or 0.0)


def unheard_tones(recording_v: FloatArray, tones: list[slice], lag: int, ppm: float) -> list[int]:
    """Tones in whose place one value stands over and over: these are not infinitely soft, but unknown."""
    def silent(tone: slice) -> bool:
        steady = steady_part(tone)
        start, stop = (max(round((at + lag) * (1 + 1e-6 * ppm)), 0) for at in (steady.start, steady.stop))
        return not np.ptp(recording_v[start:stop])

    return [i for i, tone in enumerate(tones) if silent(tone)]


@dataclass(frozen=True, slots=True, eq=False)
class _Played:
    """A stimulus to be found in records of one length: its spectrum, turned the other way, of so many samples. In
    single precision: which of two samples beside each other is the likelier does not matter, and it takes half as
    long."""

    turned: Complex64Array
    size: int

    @classmethod
    def of(cls, stimulus_v: FloatArray, count: int) -> _Played:
        size = next_fast_len(stimulus_v.size + count)
        return cls(np.asarray(np.conj(rfft(_single(stimulus_v), size)), dtype=np.complex64), size)

    def lag(self, record: FloatArray, sample_rate_hz: float) -> int:
        """Samples by which a record is late: as the loudest tones have it, or as most do where those are far off. A
        little is the filter's own; but the loudest of a sharp resonance may be all that is heard, and is like itself
        for as long as it lasts. Raises MeasurementError where none of it is in the record."""
        spectrum = rfft(_single(record), self.size)
        loudest = _highest(irfft(spectrum * self.turned, self.size), record.size)
        if loudest is None:
            raise MeasurementError("The tones are not to be found in the recording; check that the files belong "
                                   "together.")
        spectrum /= np.maximum(np.abs(spectrum), 1e-12)  # every tone counts alike
        spectrum *= self.turned  # of a minute: one array after the other, each in the place of the one before
        most = _highest(irfft(spectrum, self.size), record.size)
        return loudest if most is None or abs(most - loudest) <= GROSS_S * sample_rate_hz else most


def _single(record: FloatArray) -> Float32Array:
    """At most one."""
    return np.asarray(record / max(float(np.abs(record).max()), 1e-30), dtype=np.float32)


def _highest(correlation: Float32Array | FloatArray, count: int) -> int | None:
    """The lag of a record (count,) at which it is most alike, None where it is hardly more so than anywhere."""
    np.abs(correlation, out=correlation)
    place = int(np.argmax(correlation))
    highest = correlation[place]
    if not highest > 20 * np.median(correlation[::LOOKED_AT]):
        return None
    return place if place < count else place - correlation.size
