"""Frequency response from stepped tones: one frequency after the other, each fitted where it is steady."""

from __future__ import annotations

from dataclasses import dataclass
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
from jiyuu.measurement.tones_between import between_tones
from jiyuu.measurement.tones_heard import HeardTone, broken, heard_tone, less_hum, noise_near, steady_part, unsettled
from jiyuu.measurement.uncertain import COVERAGE, Uncertain
from jiyuu.measurement.waveform_faults import clipping, quantisation, rounded_v, step_of
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

FEWEST_TONES = 12
SHORTEST_S = 0.05
RISING_S = 0.02  # ahead of the first tone, that is no silence any more
STEPS_OF_A_GATE = 40.0  # of the recorder, peak to peak, that the softest tone has left where a gate took others
SYSTEMATIC = 2e-6  # share by which ringing and neighbours may move a tone
BESIDE = 1.06  # how far beside a tone its absence is felt: half way to the next of a dozen an octave
CLEAR, FAINT_DB = 4.0, 45.0  # standard deviations of a third harmonic; under the top: fainter ones bend nothing
HUM_ROUNDS = 2
ROUNDS_OF_A_GUESS, POLES_OF_A_GUESS = 12, (2, 4)
GROSS_S = 0.005  # by which the loudest tones may be off the others
SETTLED = 1e-14  # share of a pitch that another round would move it by
LOOKED_AT = 31  # every so manieth place tells what correlations usually are
FAR_SAMPLES = 8  # less may be the filter's own, and is found with it
LOUD, CLOCK_TONES = 1e-3, 16  # tones at least so loud re the loudest tell the clocks apart
MOST_PPM, SAME_PPM, APART = 2000.0, 0.1, 2.0  # what clocks may differ by; what of one tone may be off the others


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

    place: int
    ppm: Uncertain
    found: Estimate
    noise_db: float
    told_s: float
    notices: tuple[Notice, ...]
    compression: Compression | None


def estimate_by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float, *, draws: int
) -> ByTones:
    """Raises MeasurementError when the tones are not in the recording or span less than an octave."""
    record = recording_v - recording_v.mean()
    stimulus = _Played.of(stimulus_v, record.size)
    lag = stimulus.lag(record, sample_rate_hz)
    notices, tones = _those_inside(tones, lag, record.size, sample_rate_hz)
    played = np.array([_pitch(stimulus_v[steady_part(tone)], sample_rate_hz).value for tone in tones])
    ppm = _clock(record, tones, played, lag, sample_rate_hz)
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
    clipped, _ = clipping(recording_v, _silent_v(record[silence]))
    _, coarse = quantisation(recording_v, slice(0, recording_v.size))
    notices += [notice for notice in (clipped, coarse) if notice is not None]
    unheard = unheard_tones(recording_v, tones, lag, ppm.value)
    known = [int(i) for i in order if i not in unheard]
    if len(known) < FEWEST_TONES or played[known[-1]] < 2 * played[known[0]]:
        raise MeasurementError("Where most tones should sound nothing is recorded; take the gate out, turn the input "
                               "up and record again.")
    heard, gone, hum = _heard(stimulus_v, record, [(tones[i], float(played[i])) for i in known], lag, silence,
                              sample_rate_hz)
    notices += [] if hum is None else [hum]
    dropped = [tone.steady for tone in gone]
    if _gated(recording_v, tones, unheard, lag):
        dropped += [slice(tones[i].start + lag, tones[i].stop + lag) for i in unheard]
    if dropped:
        notices.append(Notice(Fault.DROPOUT, min(part.start for part in dropped) / sample_rate_hz, {
            "ms": 1e3 * sum(part.stop - part.start for part in dropped) / sample_rate_hz}))
    lost = [*played[unheard], *(tone.hertz for tone in gone)]
    near_v = noise_near(heard, sample_rate_hz)
    bent = _bent(heard, near_v)
    spread = _spread(heard, near_v, step_of(recording_v) or 0.0, bent, sample_rate_hz)
    frequency_hz, gain, times = (np.array([getattr(tone, name) for tone in heard])
                                 for name in ("hertz", "gain", "played_s"))
    octave = np.log2(frequency_hz[0]) + np.arange(
        int(np.log2(frequency_hz[-1] / frequency_hz[0]) * POINTS_PER_OCTAVE) + 1
    ) / POINTS_PER_OCTAVE
    later = _later(frequency_hz, gain, spread, sample_rate_hz)
    gain = gain * np.exp(2j * np.pi * frequency_hz * later / sample_rate_hz)
    between = between_tones(frequency_hz, gain, spread, times, 2.0**octave, draws)
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
    return ByTones(lag + later, ppm, found, float(20 * np.log10(max(floor, 1e-12) / max(signal, 1e-12))), told_s,
                   tuple(notices), Compression(np.interp(octave, np.log2(frequency_hz), bent)))


def _heard(
    stimulus_v: FloatArray, record_v: FloatArray, tones: list[tuple[slice, float]], lag: int, silence: slice,
    sample_rate_hz: float,
) -> tuple[list[HeardTone], list[HeardTone], Notice | None]:
    """(tones as they came back, those that broke off, the hum that was taken out of all) of tones in the order of their
    pitch: where each was played, and its hertz."""
    def all_in(record_v: FloatArray) -> list[HeardTone]:
        return [heard_tone(stimulus_v, record_v, tone, lag, hertz, sample_rate_hz) for tone, hertz in tones]

    heard, said = all_in(record_v), None
    for _ in range(HUM_ROUNDS):  # what a tone's own fit took of it shows once the rest is gone
        record_v, hum = less_hum(record_v, heard, silence, sample_rate_hz)
        if hum is None:
            break
        said, heard = said or hum, all_in(record_v)
    gone = broken(heard, noise_near(heard, sample_rate_hz), sample_rate_hz)
    kept = [tone for i, tone in enumerate(heard) if i not in gone]
    if len(kept) < FEWEST_TONES:
        raise MeasurementError("Most tones break off; check cable and buffer and record again.")
    return kept, [heard[i] for i in gone], said


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


def _silent_v(silence_v: FloatArray) -> float:
    return float(np.std(silence_v[silence_v.size // 2 :])) if silence_v.size > 1000 else 0.0


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


def _pitch(record: FloatArray, sample_rate_hz: float, near_hz: float | None = None) -> Uncertain:
    """Frequency of a tone by a four-parameter sine fit (IEEE 1057), ± two standard deviations, Hz."""
    t = (np.arange(record.size) - record.size / 2) / sample_rate_hz
    if near_hz is None:
        size = next_fast_len(2 * record.size)
        near_hz = float(np.argmax(np.abs(rfft(record * np.hanning(record.size), size)))) * sample_rate_hz / size
    omega, a, b = 2 * np.pi * near_hz, 0.0, 0.0
    for step in range(6):
        parts = [np.cos(omega * t), np.sin(omega * t), np.ones_like(t)]
        if step:
            parts.append(t * (b * parts[0] - a * parts[1]))
        design = np.stack(parts)
        scale = np.linalg.norm(design, axis=1)
        design /= np.maximum(scale, 1e-300)[:, np.newaxis]
        answer = np.linalg.lstsq(design @ design.T, design @ record, rcond=None)[0]
        weights = answer / np.maximum(scale, 1e-300)
        a, b = float(weights[0]), float(weights[1])
        omega += float(weights[3]) if step else 0.0
        if step and abs(weights[3]) < SETTLED * omega:
            break
    left = float(np.sqrt(np.mean((record - answer @ design) ** 2)))
    span_s = record.size / sample_rate_hz
    spread = np.sqrt(6 / record.size) * left / (np.pi * max(float(np.hypot(a, b)), 1e-15) * span_s)
    return Uncertain(omega / (2 * np.pi), COVERAGE * float(spread))


def _clock(
    record: FloatArray, tones: list[slice], played_hz: FloatArray, lag: int, sample_rate_hz: float
) -> Uncertain:
    """Recorder against player from the pitch of the loud tones: a fast recorder hears them flat."""
    silent_v = _silent_v(record[: max(tones[0].start + lag - round(RISING_S * sample_rate_hz), 0)])
    power = np.array([np.var(record[tone.start + lag : tone.stop + lag]) for tone in tones])
    levels = np.sqrt(np.maximum(power - min(4 * silent_v**2, 0.5 * float(power.max())), 0.0))
    loud = [i for i in np.argsort(-levels * played_hz) if levels[i] > LOUD * levels.max()][:CLOCK_TONES]
    offsets, own = np.zeros(len(loud)), np.zeros(len(loud))
    for place, i in enumerate(loud):
        steady = steady_part(tones[i])
        found = _pitch(record[steady.start + lag : steady.stop + lag], sample_rate_hz, float(played_hz[i]))
        offsets[place] = 1e6 * (played_hz[i] / found.value - 1)
        own[place] = max(1e6 * found.uncertainty / found.value, 1e-6)
    # A tone beside a resonance that still rings is heard as that.
    kept = np.abs(offsets) < MOST_PPM
    if kept.any():
        offsets, own = offsets[kept], own[kept]
    order = np.argsort(offsets)
    weight = np.cumsum(own[order] ** -2.0)
    middle = offsets[order[np.searchsorted(weight, 0.5 * weight[-1])]]
    kept = np.abs(offsets - middle) <= APART * own + SAME_PPM
    offsets, own = offsets[kept], own[kept]
    total = float(np.sum(own**-2.0))
    scatter = max(float(np.sqrt(np.mean(((offsets - middle) / own) ** 2))), 0.5)  # own covers two deviations
    return Uncertain(float(np.dot(offsets, own**-2.0)) / total, 2 * scatter / float(np.sqrt(total)))
