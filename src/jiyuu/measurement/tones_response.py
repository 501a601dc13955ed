"""Frequency response from stepped tones: one frequency after the other, each fitted where it is steady."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import at_player_clock
from jiyuu.measurement.distortion_orders import Compression
from jiyuu.measurement.estimate import Estimate
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.tones_clock import MOST_PPM, RISING_S, clock_of, pitch_of, silent_v_of
from jiyuu.measurement.tones_found import FEWEST_TONES, Sought, gated, those_inside, unheard_tones
from jiyuu.measurement.tones_heard import HeardTone, heard_tone, less_hum, steady_part
from jiyuu.measurement.tones_told import Recorded
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.waveform_faults import Hum, clipping, quantisation, step_of

BESIDE = 1.06  # how far beside a tone its absence is felt: half way to the next of a dozen an octave
HUM_ROUNDS = 2
UNTOLD_PPM = 5.0  # of a clock by the pitch of tones, from which on it may be none
DOUBTED_PPM = 0.3  # from which on it may be another where nothing fits
FELT_PPM = 0.02  # by which nothing is turned yet
HEARD_AGAIN = 1  # by the clock that was found


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
    clock: Uncertain | None = None,
) -> ByTones:
    """clock: ppm by which the recorder is fast, nearly; None for what the pitch of the tones tells. Raises
    MeasurementError when the tones are not in the recording or span less than an octave."""
    as_played = tones
    record = recording_v - recording_v.mean()
    sought = Sought.of(stimulus_v, record.size)
    lag = sought.lag(record, sample_rate_hz)
    notices, tones = those_inside(tones, lag, record.size, sample_rate_hz)
    played = np.array([pitch_of(stimulus_v[steady_part(tone)], sample_rate_hz).value for tone in tones])
    ppm = clock or clock_of(record, tones, played, lag, sample_rate_hz)
    unsure = clock is None and ppm.uncertainty > UNTOLD_PPM
    if unsure:
        by_network = _by_their_network(stimulus_v, recording_v, as_played, sample_rate_hz, draws)
        if by_network is not None:
            return by_network
    if abs(ppm.value) > FELT_PPM:
        record = at_player_clock(record, ppm.value)
        lag = sought.lag(record, sample_rate_hz)
        whole = [tone.start + lag >= 0 and tone.stop + lag <= record.size for tone in tones]
        tones, played = [tone for tone, inside in zip(tones, whole, strict=True) if inside], played[whole]
    del sought  # of a minute some megabytes
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
    if hum is not None:
        level = float(20 * np.log10(hum.peak_v / max(float(np.abs(recording_v).max()), 1e-12)))
        notices.append(Notice(Fault.HUM, None, {"mains_hz": hum.mains_hz, "db": level}))
    octave = np.log2(heard[0].hertz) + np.arange(
        int(np.log2(heard[-1].hertz / heard[0].hertz) * POINTS_PER_OCTAVE) + 1) / POINTS_PER_OCTAVE
    told = Recorded(stimulus_v, places, heard, step_of(recording_v) or 0.0, hum, 2.0**octave, sample_rate_hz,
                    draws).told()
    between, later, frequency_hz = told.between, told.later, told.frequency_hz
    if between.network is None and clock is None and not unsure and ppm.uncertainty > DOUBTED_PPM:
        by_network = _by_their_network(stimulus_v, recording_v, as_played, sample_rate_hz, draws)
        if by_network is not None:
            return by_network
    dropped = [tone.steady for tone in told.gone]
    if gated(recording_v, tones, unheard, lag):
        dropped += [slice(tones[i].start + lag, tones[i].stop + lag) for i in unheard]
    if dropped:
        notices.append(Notice(Fault.DROPOUT, min(part.start for part in dropped) / sample_rate_hz, {
            "ms": 1e3 * sum(part.stop - part.start for part in dropped) / sample_rate_hz}))
    lost = [*played[unheard], *(tone.hertz for tone in told.gone)]
    if between.step is not None:
        at_s = float(told.times[between.step.place] + lag / sample_rate_hz)
        notices.append(Notice(Fault.GAIN_CHANGED, at_s, {"db": between.step.raised_db, "brought": 1.0}))
    deviation = np.sqrt(np.mean(np.abs(between.drawn - between.gain) ** 2, axis=0))
    signal = float(np.sqrt(np.mean(np.abs([tone.out for tone in told.heard]) ** 2) / 2))
    floor = float(np.median([tone.noise_v for tone in told.heard]))
    hurt = tuple((hertz / BESIDE, hertz * BESIDE) for hertz in lost if frequency_hz[0] < hertz < frequency_hz[-1])
    found = Estimate(2.0**octave, between.gain, deviation, between.drawn, 1, None, lag + later, between.network,
                     hurt_hz=((0.0, sample_rate_hz),) if clipped is not None else hurt)
    # What was not found of the clock turns about that moment.
    told_s = float(np.mean(told.times)) + lag / sample_rate_hz
    place = float(lag + later)
    if between.clock_ppm is not None:  # what all of them tell together, more than the pitch of each does
        ppm = replace(between.clock_ppm, value=ppm.value + between.clock_ppm.value)
        place -= 1e-6 * between.clock_ppm.value * told_s * sample_rate_hz
    return ByTones(place, ppm, found, float(20 * np.log10(max(floor, 1e-12) / max(signal, 1e-12))), told_s,
                   tuple(notices), Compression(np.interp(octave, np.log2(frequency_hz), told.bent)))


def _by_their_network(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float, draws: int
) -> ByTones | None:
    """By the clock that the phases of all tones tell together: beside a resonance that still rings each is heard as
    that. None where no network does."""
    found: ByTones | None = None
    ppm = 0.0
    for _ in range(HEARD_AGAIN + 1):  # a ring is foretold in its place only by the clock it was recorded by
        try:
            again = estimate_by_tones(stimulus_v, recording_v, tones, sample_rate_hz, draws=draws,
                                      clock=Uncertain(ppm, MOST_PPM))
        except MeasurementError:
            break
        if again.found.network is None:
            break
        found, moved_ppm, ppm = again, again.ppm.value - ppm, again.ppm.value
        if abs(moved_ppm) < FELT_PPM:
            break
    return found


def _heard(
    stimulus_v: FloatArray, record_v: FloatArray, tones: list[tuple[slice, float]], lag: int, silence: slice,
    sample_rate_hz: float,
) -> tuple[FloatArray, list[HeardTone], Hum | None]:
    """(the record less its hum, tones as they came back in it, what hummed) of tones in the order of their
    pitch: where each was played, and its hertz."""
    def all_in(record_v: FloatArray) -> list[HeardTone]:
        return [heard_tone(stimulus_v, record_v, tone, lag, hertz, sample_rate_hz) for tone, hertz in tones]

    heard, said = all_in(record_v), None
    for _ in range(HUM_ROUNDS):  # what a tone's own fit took of it shows once the rest is gone
        record_v, hum = less_hum(record_v, heard, silence, sample_rate_hz, rest=said is not None)
        if hum is None:
            break
        said, heard = said or hum, all_in(record_v)
    return record_v, heard, said
