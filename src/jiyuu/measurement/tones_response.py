"""Frequency response from stepped tones: one frequency after the other, each fitted where it is steady."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import at_player_clock
from jiyuu.measurement.distortion_orders import Compression
from jiyuu.measurement.estimate import Estimate
from jiyuu.measurement.mains_hum import Hum
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.tones_between import Between
from jiyuu.measurement.tones_clock import MOST_PPM, RISING_S, clock_of, pitch_of, silent_v_of
from jiyuu.measurement.tones_found import FEWEST_TONES, Sought, gated, those_inside, unheard_tones
from jiyuu.measurement.tones_heard import HeardTone, heard_tone, less_hum, steady_part
from jiyuu.measurement.tones_told import Recorded, Told
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.waveform_faults import clipping, quantisation, step_of

BESIDE = 1.06  # how far beside a tone its absence is felt: half way to the next of a dozen an octave
HUM_ROUNDS = 2
UNTOLD_PPM = 5.0  # of a clock by the pitch of tones, from which on it may be none
DOUBTED_PPM = 0.3  # from which on it may be another where nothing fits
FELT_PPM = 0.02  # by which nothing is turned yet
HEARD_AGAIN = 1  # by the clock that was found


@dataclass(frozen=True, slots=True, eq=False)
class ByTones:
    """place: samples that the recording lags; noise_db re the recording; told_s: for how long what is not known of the
    clock moves the delay."""

    place: float
    ppm: Uncertain
    found: Estimate
    noise_db: float
    told_s: float
    notices: tuple[Notice, ...]
    compression: Compression | None
    told: Told


@dataclass(frozen=True, slots=True, eq=False)
class Stepped:
    """A stepped stimulus: where each of its tones (n,) is, and its pitch, hertz (n,)."""

    stimulus_v: FloatArray
    tones: list[slice]
    hertz: FloatArray
    sample_rate_hz: float

    @classmethod
    def of(cls, stimulus_v: FloatArray, tones: list[slice], sample_rate_hz: float) -> Stepped:
        """Raises MeasurementError where they do not span an octave, or one is played twice."""
        hertz = np.array([pitch_of(stimulus_v[steady_part(tone)], sample_rate_hz).value for tone in tones])
        order = np.argsort(hertz)
        if hertz[order[-1]] < 2 * hertz[order[0]] or (np.diff(hertz[order]) <= 0).any():
            raise MeasurementError("The tones must rise or fall over more than an octave, each played once.")
        return cls(stimulus_v, tones, hertz, sample_rate_hz)

    def some(self, kept: list[int]) -> Stepped:
        """Those whose places are kept."""
        return replace(self, tones=[self.tones[i] for i in kept], hertz=self.hertz[kept])


def estimate_by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float, *, draws: int
) -> ByTones:
    """Raises MeasurementError when the tones are not in the recording or span less than an octave."""
    by = _estimated(Stepped.of(stimulus_v, tones, sample_rate_hz), recording_v, draws)
    return replace(by, found=replace(by.found, network=None)) if by.told.rings_otherwise else by


def _estimated(
    stepped: Stepped, recording_v: FloatArray, draws: int, *, clock: Uncertain | None = None,
    near: ByTones | None = None,
) -> ByTones:
    """clock: ppm by which the recorder is fast, nearly; None for what the pitch of the tones tells; near: what was
    found by another clock. Raises MeasurementError as estimate_by_tones does."""
    rate_hz, as_played = stepped.sample_rate_hz, stepped
    record = recording_v - recording_v.mean()
    sought = Sought.of(stepped.stimulus_v, record.size)
    lag = sought.lag(record, rate_hz)
    notices, inside = those_inside(stepped.tones, lag, record.size, rate_hz)
    stepped = stepped.some(inside)
    ppm = clock or clock_of(record, stepped.tones, stepped.hertz, lag, rate_hz)
    unsure = clock is None and ppm.uncertainty > UNTOLD_PPM
    if unsure:
        by_network = _by_their_network(as_played, recording_v, draws)
        if by_network is not None:
            return by_network
    if abs(ppm.value) > FELT_PPM:
        record = at_player_clock(record, ppm.value)
        lag = sought.lag(record, rate_hz)
        stepped = stepped.some([i for i, tone in enumerate(stepped.tones)
                                if tone.start + lag >= 0 and tone.stop + lag <= record.size])
    del sought  # of a minute some megabytes
    silence = slice(0, max(stepped.tones[0].start + lag - round(RISING_S * rate_hz), 0))
    clipped, _ = clipping(recording_v, silent_v_of(record[silence]))
    _, coarse = quantisation(recording_v, slice(0, recording_v.size))
    notices += [notice for notice in (clipped, coarse) if notice is not None]
    unheard = unheard_tones(recording_v, stepped.tones, lag, ppm.value)
    known = stepped.some([int(i) for i in np.argsort(stepped.hertz) if i not in unheard])
    if len(known.tones) < FEWEST_TONES or known.hertz[-1] < 2 * known.hertz[0]:
        raise MeasurementError("Where most tones should sound nothing is recorded; take the gate out, turn the input "
                               "up and record again.")
    record, heard, hum = _heard(known, record, lag, silence)
    if hum is not None:
        level = float(20 * np.log10(hum.peak_v / max(float(np.abs(recording_v).max()), 1e-12)))
        notices.append(Notice(Fault.HUM, None, {"mains_hz": hum.mains_hz, "db": level}))
    doubted = clock is not None or ppm.uncertainty > DOUBTED_PPM
    nearly = None if near is None else near.told.by_its_clock(round(near.place) - lag)
    told = Recorded(known.stimulus_v, known.tones, heard, step_of(recording_v) or 0.0, hum, _wanted_hz(heard), rate_hz,
                    draws).told(nearly, roughly=doubted and near is None)
    if (told.between.network is None or told.rings_otherwise) and doubted and clock is None and not unsure:
        by_network = _by_their_network(as_played, recording_v, draws)
        if by_network is not None:
            return by_network
    gone = [tone.steady for tone in told.lasting.gone]
    if gated(recording_v, stepped.tones, unheard, lag):
        gone += [slice(stepped.tones[i].start + lag, stepped.tones[i].stop + lag) for i in unheard]
    if gone:
        notices.append(Notice(Fault.DROPOUT, min(part.start for part in gone) / rate_hz, {
            "ms": 1e3 * sum(part.stop - part.start for part in gone) / rate_hz}))
    hurt = ((0.0, rate_hz),) if clipped is not None else _hurt_hz(told, stepped.hertz[unheard])
    return _stated(told, ppm, lag, notices, hurt, rate_hz)


def _wanted_hz(heard: list[HeardTone]) -> FloatArray:
    """(n,) evenly on the octave scale from the lowest of tones to the highest."""
    octaves = int(np.log2(heard[-1].hertz / heard[0].hertz) * POINTS_PER_OCTAVE)
    return np.asarray(heard[0].hertz * 2.0 ** (np.arange(octaves + 1) / POINTS_PER_OCTAVE))


def _hurt_hz(told: Told, unheard_hz: FloatArray) -> tuple[tuple[float, float], ...]:
    """Bands about tones that nothing is known of."""
    first_hz, *_, last_hz = told.lasting.gains.frequency_hz.tolist()
    lost = [*unheard_hz.tolist(), *(tone.hertz for tone in told.lasting.gone)]
    return tuple((hertz / BESIDE, hertz * BESIDE) for hertz in lost if first_hz < hertz < last_hz)


def _stated(
    told: Told, ppm: Uncertain, lag: int, notices: list[Notice], hurt_hz: tuple[tuple[float, float], ...],
    sample_rate_hz: float,
) -> ByTones:
    """ppm: by which the recording was brought to the player's clock; lag: of it then."""
    between, lasting, place = told.between, told.lasting, float(lag + told.later)
    if between.step is not None:
        at_s = float(lasting.gains.time_s[between.step.place] + lag / sample_rate_hz)
        notices = [*notices, Notice(Fault.GAIN_CHANGED, at_s, {"db": between.step.raised_db, "brought": 1.0})]
    deviation = np.sqrt(np.mean(np.abs(between.drawn - between.gain) ** 2, axis=0))
    signal = float(np.sqrt(np.mean(np.abs([tone.out for tone in lasting.heard]) ** 2) / 2))
    floor = float(np.median([tone.noise_v for tone in lasting.heard]))
    hertz = told.between.at_hz
    found = Estimate(hertz, between.gain, deviation, between.drawn, 1, None, lag + told.later, between.network,
                     hurt_hz=hurt_hz)
    # What was not found of the clock turns about that moment.
    told_s = float(np.mean(lasting.gains.time_s)) + lag / sample_rate_hz
    if between.clock_ppm is not None:  # what all of them tell together, more than the pitch of each does
        ppm = replace(between.clock_ppm, value=ppm.value + between.clock_ppm.value)
        place -= 1e-6 * between.clock_ppm.value * told_s * sample_rate_hz
        # High tones tell the delay best, and until those sound the clocks run apart.
        told_s = float(np.sqrt(max(told_s**2 + 2 * told_s * _best_told_s(between), 0.0)))
    bent = np.interp(np.log2(hertz), np.log2(lasting.gains.frequency_hz), lasting.bent)
    return ByTones(place, ppm, found, float(20 * np.log10(max(floor, 1e-12) / max(signal, 1e-12))), told_s,
                   tuple(notices), Compression(np.asarray(bent)), told)


def _best_told_s(between: Between) -> float:
    """Re the middle of all tones, when the delay is known by itself, not together with the clock."""
    if between.network is None:
        return 0.0
    delay, clock = between.network.fit.spread[-1], between.network.fit.spread[-3]
    return -float(delay @ clock / (clock @ clock)) / between.network.fit.unit


def _by_their_network(stepped: Stepped, recording_v: FloatArray, draws: int) -> ByTones | None:
    """By the clock that the phases of all tones tell together: beside a resonance that still rings each is heard as
    that. None where no network does."""
    found: ByTones | None = None
    ppm = 0.0
    for _ in range(HEARD_AGAIN + 1):  # a ring is foretold in its place only by the clock it was recorded by
        try:
            again = _estimated(stepped, recording_v, draws, clock=Uncertain(ppm, MOST_PPM), near=found)
        except MeasurementError:
            break
        if again.found.network is None:
            break
        found, moved_ppm, ppm = again, again.ppm.value - ppm, again.ppm.value
        if abs(moved_ppm) < FELT_PPM:
            break
    return found


def _heard(
    stepped: Stepped, record_v: FloatArray, lag: int, silence: slice
) -> tuple[FloatArray, list[HeardTone], Hum | None]:
    """(the record less its hum, the tones as they came back in it, what hummed)."""
    def all_in(record_v: FloatArray) -> list[HeardTone]:
        return [heard_tone(stepped.stimulus_v, record_v, tone, lag, hertz, stepped.sample_rate_hz)
                for tone, hertz in zip(stepped.tones, stepped.hertz.tolist(), strict=True)]

    heard, said = all_in(record_v), None
    for _ in range(HUM_ROUNDS):  # what a tone's own fit took of it shows once the rest is gone
        record_v, hum = less_hum(record_v, heard, silence, stepped.sample_rate_hz, rest=said is not None)
        if hum is None:
            break
        said, heard = said or hum, all_in(record_v)
    return record_v, heard, said
