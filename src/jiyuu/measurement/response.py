"""Frequency response from a played sweep, noise or stepped tones, and the recording.

The recording is aligned (place, polarity, clock), deconvolved by the sweep, and the impulse response cut out of its
surroundings, which leaves the harmonics of distortion and most of the noise behind (Farina 2000, AES 108th
Convention; Novak et al. 2015, JAES). The complex gain is then smoothed as far as the data allow. The noise comes from
the difference between two equal passages, or from the silence after a single one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import Passages, find_passages
from jiyuu.measurement.chirp import sounding_s
from jiyuu.measurement.clock_offset import ClockOffset
from jiyuu.measurement.distortion_orders import Compression, compression_of, efold_s
from jiyuu.measurement.estimate import Estimate, FittedNetwork
from jiyuu.measurement.excess_delay import but_for_delays, excess_delay, turned_by
from jiyuu.measurement.made_ready import SURE_PPM, Ready, alone, made_ready
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.noise_heard import in_place
from jiyuu.measurement.noise_response import at_own_clock, estimate_by_noise, happened_within
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.passage_faults import TURNED
from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
from jiyuu.measurement.sweep_response import DRAWS, band_of, estimate_by_sweep, prepared
from jiyuu.measurement.tones_found import tones_of
from jiyuu.measurement.tones_response import estimate_by_tones
from jiyuu.measurement.uncertain import COVERAGE, UNSURE, Uncertain
from jiyuu.stopping import meanwhile

DIFFERENT = 1.5
ASKED_DB, ASKED_OCTAVES = 20.0, 3  # over the noise; of a curve, that a network must fit if they are as clear
ALIKE = 3e-4  # share by which two passages may differ and still be as they should
COHERENT, FAINT_DB = 0.9, -20.0  # of noise through a filter, where what lies under it is so far down
UNEXPLAINED = 3.0  # by how much more the delay may be off that the nearest network tells of what none explains
LEFT_BY_NOISE = 1.2  # standard deviations: a network that leaves more was laid through something else besides
UNKNOWN_PPM, BLURRED = 30.0, 0.05  # a clock that is not told; rad that it may turn the ends of a passage by
NO_CLOCK_PPM = 100.0  # two crystals are not so far apart
UNKNOWN_LOSS_S = 0.06
AHEAD_S = 0.005  # half of what is looked at ahead of a passage of noise
TURNED_BY_TWO = 0.012  # rad: what noise leaves of a passage whose clock the other one tells
COUNTED_LOSS_S = 1e-4  # to a few samples, where the filter lets little through to tell by
ROUNDED_S = 1e-10  # what arithmetic may move a latency by
WANDERS_PPM = 0.01  # a crystal, from one minute to the next: no offset is stated finer


@dataclass(frozen=True, slots=True, eq=False)
class MeasuredResponse:
    """Gain of recording over stimulus, latency taken out, polarity left in.

    frequency_hz (n,) at POINTS_PER_OCTAVE; gain (n,) V/V; deviation (n,) standard uncertainty of the gain;
    draws (DRAWS, n): the gain with noise as it might as well have been, for the uncertainty of what is read from it."""

    frequency_hz: FloatArray
    gain: ComplexArray
    deviation: FloatArray
    draws: ComplexArray
    latency_s: Uncertain
    polarity: int | None  # None where either sign explains the phase as well
    clock_offset_ppm: Uncertain | None
    noise_floor_db: float
    passages: int
    coherence: FloatArray | None = None  # (n,) share of the output that the input explains; measured with noise
    network: FittedNetwork | None = None
    notices: tuple[Notice, ...] = ()
    hurt_hz: tuple[tuple[float, float], ...] = ()  # bands in which the recording is not to be trusted
    compression: Compression | None = None
    nearest: NetworkFit | None = None  # what comes nearest to a curve that no network explains
    unloaded: NetworkFit | None = None  # what fits the faint parts of a curve that no network explains as a whole
    level_v: float | None = None  # peak of the stimulus
    efold_s: float | None = None  # in which the sweep's frequency grows e-fold; None for what does not do so steadily
    quickly: bool = False
    steady: bool = False  # from tones that had settled: what each leaves tells its noise
    delay_doubt_s: float = 0.0  # 95 % uncertainty of the delay that was taken out, but for what no phase tells
    wander_db: float = 0.0  # by how much the gain was another one in one passage than in the other
    pressed_db: float = 0.0  # by how much noise was softer than a faint one would have been

    @property
    def network_unasked(self) -> bool:
        """Whether the curve is too short, too poor or of too few tones for a network that must fit."""
        clear = int(np.sum(self.snr_db > ASKED_DB))
        return self.quickly or self.level_v is None or clear < ASKED_OCTAVES * POINTS_PER_OCTAVE

    @property
    def level_db(self) -> FloatArray:
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.gain), 1e-20)))

    @property
    def snr_db(self) -> FloatArray:
        """Of the smoothed gain."""
        return np.asarray(20 * np.log10(np.maximum(np.abs(self.gain), 1e-20) / np.maximum(self.deviation, 1e-20)))

    @property
    def level_uncertainty_db(self) -> FloatArray:
        """95 % uncertainty of the level."""
        share = COVERAGE / np.sqrt(2) * self.deviation / np.maximum(np.abs(self.gain), 1e-20)
        return np.asarray(20 * np.log10(1 + share))

    @property
    def phase_deg(self) -> FloatArray:
        return np.asarray(np.rad2deg(np.unwrap(np.angle(self.gain))))


def measure_response(
    stimulus_v: FloatArray, recording_v: FloatArray, sample_rate_hz: float, *, quickly: bool = False,
    like: NetworkFit | None = None,
) -> MeasuredResponse:
    """Both (n,) volts at the same nominal rate. quickly: without looking for the network behind the curve, for one of
    many curves; like: the network of another of them, then one with as many poles and zeros is tried all the same.
    Raises MeasurementError saying what to do."""
    for name, record in (("stimulus", stimulus_v), ("recording", recording_v)):
        if record.size < 0.1 * sample_rate_hz:
            raise MeasurementError(f"The {name} is only {record.size} samples long; give at least 0.1 s.")
        if not np.isfinite(record).all():
            raise MeasurementError(f"The {name} holds samples that are not numbers; export it again.")
        if not record.any():
            raise MeasurementError(f"The {name} is silent; check cable and level.")
    tones = tones_of(stimulus_v, sample_rate_hz)
    if tones:
        return _by_tones(stimulus_v, recording_v, tones, sample_rate_hz)
    # Offsets of unit and converter lie outside the sweep's band, where deconvolution would only raise them.
    stimulus_v = stimulus_v - _resting(stimulus_v)
    passages = find_passages(stimulus_v)
    with meanwhile(partial(prepared, passages, sample_rate_hz)):
        ready = made_ready(recording_v, passages, sample_rate_hz)
    if passages.noisy:
        ready, found = _by_noise(ready, stimulus_v, passages, sample_rate_hz)
    else:
        found = estimate_by_sweep(ready, passages, sample_rate_hz, quickly, like)
    doubtful = found.network is None or found.network.fit.left > LEFT_BY_NOISE
    if doubtful and not quickly and not passages.noisy and ready.offset is not None and (
        abs(ready.offset.ppm) > SURE_PPM or _differ(ready, passages)
    ):
        # Samples may be missing between the passages, or in one of them; each alone keeps its time.
        for which in (0, 1):
            one = alone(recording_v, passages, ready, sample_rate_hz, which)
            other = estimate_by_sweep(one, passages, sample_rate_hz)
            if other.network is not None and (
                found.network is None or other.network.fit.left < LEFT_BY_NOISE
            ):
                ready, found = one, other
                break
    place = float(found.place + ready.late - passages.start)
    if found.clock_ppm is not None:  # until the passage began the clocks had run apart already
        place -= 1e-6 * found.clock_ppm.value * (found.place + ready.sound[0] * passages.period)
    middle_s = max(place + passages.start, 0.0) / sample_rate_hz + _told_s(found, passages, sample_rate_hz)
    if ready.offset is not None and not ready.offset.is_felt:  # then the record was not brought to one clock
        place -= 1e-6 * ready.offset.ppm * middle_s * sample_rate_hz
    response = _stated_response(
        found, place / sample_rate_hz, _own_clock(found) if ready.offset is None else _stated(ready.offset),
        _noise_floor_db(ready, passages), sample_rate_hz, middle_s, ready.notices,
        None if passages.noisy or quickly else compression_of(
            ready.record_v, passages, found.place, ready.sound, found.frequency_hz,
            20 * np.log10(np.maximum(np.abs(found.gain), 1e-20)), sample_rate_hz),
        float(np.abs(stimulus_v).max()), quickly,
    )
    return replace(response, wander_db=ready.wander_db, efold_s=None if passages.noisy else efold_s(
        passages, response.frequency_hz, sample_rate_hz))


def _told_s(found: Estimate, passages: Passages, sample_rate_hz: float) -> float:
    """When after its beginning the stimulus tells a delay: by how much each frequency turns with it, against noise."""
    told_s = 0.5 * passages.passage_v.size / sample_rate_hz
    if not passages.noisy:
        weight = (found.frequency_hz * np.abs(found.gain) / np.maximum(found.deviation, 1e-20)) ** 2
        told_s = float(np.average(sounding_s(found.frequency_hz, passages, sample_rate_hz), weights=weight))
    return told_s + 0.5 * (passages.count - 1) * passages.period / sample_rate_hz


def _by_tones(
    stimulus_v: FloatArray, recording_v: FloatArray, tones: list[slice], sample_rate_hz: float
) -> MeasuredResponse:
    by = estimate_by_tones(stimulus_v, recording_v, tones, sample_rate_hz, draws=DRAWS)
    response = _stated_response(by.found, by.place / sample_rate_hz, by.ppm, by.noise_db, sample_rate_hz, by.told_s,
                                by.notices, by.compression, float(np.abs(stimulus_v).max()))
    return replace(response, steady=True)


def _stated_response(
    found: Estimate, place_s: float, offset: Uncertain | None, noise_db: float, sample_rate_hz: float, middle_s: float,
    notices: tuple[Notice, ...] = (), compression: Compression | None = None, level_v: float | None = None,
    quickly: bool = False,
) -> MeasuredResponse:
    """With its delay taken out: all of it that the network, or else the minimum phase, does not account for. middle_s:
    of the recording, where the delay is found: until then the clocks have run apart."""
    hertz, fit = found.frequency_hz, found.turning
    flat = 1.0 if fit is None else turned_by(hertz, but_for_delays(fit.zeros, fit.poles))
    delay_s, polarity, doubt_s = excess_delay(hertz, found.gain / flat, found.deviation, sample_rate_hz)
    if fit is not None:
        loud = np.abs(found.gain) ** 2
        polarity = 1 if fit.values[-2] * float(np.sum(loud * turned_by(hertz, fit.zeros).real)) > 0 else -1
        # One that leaves more than noise would may have taken for poles or zeros what is a delay.
        mistaken_s = abs(fit.delay_s - delay_s) if fit.left > LEFT_BY_NOISE else 0.0
        mistaken_s *= 1.0 if found.network is not None else UNEXPLAINED
        delay_s, doubt_s = fit.delay_s, float(np.hypot(COVERAGE * UNSURE * fit.delay_deviation_s, ROUNDED_S))
        doubt_s = float(np.hypot(doubt_s, mistaken_s))
    delay_doubt_s = doubt_s
    if any(notice.fault is Fault.SAMPLES_LOST and "samples" not in notice.facts for notice in notices):
        doubt_s += UNKNOWN_LOSS_S  # how many are missing ahead of what was used is not known
    elif any(notice.fault is Fault.SAMPLES_LOST for notice in notices):
        doubt_s += COUNTED_LOSS_S
    if offset is not None:
        doubt_s = float(np.hypot(doubt_s, 1e-6 * offset.uncertainty * middle_s))
    turn = np.exp(2j * np.pi * hertz * delay_s)
    return MeasuredResponse(
        frequency_hz=hertz, gain=found.gain * turn, deviation=found.deviation, draws=found.draws * turn,
        latency_s=Uncertain(place_s + delay_s, doubt_s), polarity=polarity,
        clock_offset_ppm=offset if offset is None else Uncertain(offset.value, max(offset.uncertainty, WANDERS_PPM)),
        noise_floor_db=noise_db, passages=found.passages, coherence=found.coherence, network=found.network,
        notices=notices, hurt_hz=found.hurt_hz, compression=compression,
        nearest=found.nearest, unloaded=found.unloaded, level_v=level_v, quickly=quickly, pressed_db=found.pressed_db,
        delay_doubt_s=delay_doubt_s,
    )


def _by_noise(
    ready: Ready, stimulus_v: FloatArray, passages: Passages, sample_rate_hz: float
) -> tuple[Ready, Estimate]:
    """What was made ready, with what only the estimate tells of it; every frequency sounds all the time, so that a
    fault hurts them all."""
    band_hz = band_of(passages, sample_rate_hz)
    own, blurred_hz = None, np.inf
    if ready.offset is None and len(ready.sound) == 1:
        own = at_own_clock(ready, passages, band_hz=band_hz, sample_rate_hz=sample_rate_hz)
        doubt_ppm = UNKNOWN_PPM if own is None else max(own[1].uncertainty / COVERAGE, 1e-6)
        blurred_hz = BLURRED / (np.pi * passages.passage_v.size / sample_rate_hz * 1e-6 * doubt_ppm)
    ready, clock = own or (ready, None)
    found = estimate_by_noise(ready, passages, band_hz=band_hz, sample_rate_hz=sample_rate_hz, draws=DRAWS)
    # Of what began that much before it was looked for, the beginning was cut off.
    early = found.network is None or found.network.fit.delay_s < -AHEAD_S
    if early and (there := in_place(ready, passages, sample_rate_hz)).place != ready.place:
        again = estimate_by_noise(there, passages, band_hz=band_hz, sample_rate_hz=sample_rate_hz, draws=DRAWS)
        clearer = again.network is not None and (
            found.network is None or again.network.fit.left < found.network.fit.left)
        ready, found = (there, again) if clearer else (ready, found)
    if clock is not None:
        found = replace(found, turned_ppm=clock.value, clock_ppm=Uncertain(0.0, clock.uncertainty))
    if blurred_hz < band_hz[1]:  # what comes early and late no longer adds up there
        found = replace(found, hurt_hz=((blurred_hz, sample_rate_hz),))
        kept = [notice for notice in ready.notices if notice.fault is not Fault.FEWER_PASSAGES]
        few = Notice(Fault.FEWER_PASSAGES, None, {
            "used": 1, "played": passages.count, "blurred_hz": float(blurred_hz)})
        ready = replace(ready, notices=(*kept, few))
    assert found.coherence is not None
    loud = np.abs(found.gain) > 0.1 * np.abs(found.gain).max()
    unlike = float(np.median(found.coherence[loud])) < COHERENT and _noise_floor_db(ready, passages) < FAINT_DB
    doubtful = found.network is None or found.network.fit.left > LEFT_BY_NOISE
    apart_ppm = 0.0 if ready.offset is None else abs(ready.offset.ppm)
    if (unlike and apart_ppm > SURE_PPM) or (doubtful and apart_ppm > NO_CLOCK_PPM):
        # No clock is that far off: samples are missing between the passages, and what is left tells no clock.
        at_s = (ready.place + passages.passage_v.size) / sample_rate_hz
        kept = [notice for notice in ready.notices if notice.fault is not Fault.GAIN_CHANGED]
        ready = replace(ready, notices=(Notice(Fault.SAMPLES_LOST, at_s), *kept))
    turned = TURNED_BY_TWO if ready.offset is not None else None if clock is None else TURNED
    within, pressed_db = happened_within(ready, passages, found, sample_rate_hz, turned=turned)
    found = replace(found, pressed_db=pressed_db)
    if within is not None:
        ready = replace(ready, notices=(within, *ready.notices))
    lost = any(notice.fault is Fault.SAMPLES_LOST for notice in ready.notices)
    if ready.flat.any() or lost or within is not None:
        found = replace(found, hurt_hz=((0.0, sample_rate_hz),))
    return ready, found


def _resting(stimulus_v: FloatArray) -> float:
    """Level of the silence around a stimulus, 0 unless its file carries an offset."""
    return float(np.median(stimulus_v[: max(stimulus_v.size // 100, 1)])) if abs(stimulus_v[0]) > 0 else 0.0


def _differ(ready: Ready, passages: Passages) -> bool:
    """Whether two passages are less alike than the silence around them would make them."""
    length = passages.passage_v.size
    first, second = (ready.record_v[max(at, 0) : max(at, 0) + length]
                     for at in (ready.place, ready.place + passages.period))
    if ready.silence_v.size < 100 or second.size < length:
        return False
    usual_v = DIFFERENT * np.sqrt(2) * float(np.std(ready.silence_v)) + 2 * ready.step_v
    return float(np.std(first - second)) > usual_v + ALIKE * float(np.std(first))


def _own_clock(found: Estimate) -> Uncertain | None:
    """Of a single passage."""
    return None if found.clock_ppm is None else Uncertain(
        found.turned_ppm + found.clock_ppm.value, found.clock_ppm.uncertainty)


def _stated(offset: ClockOffset) -> Uncertain:
    return Uncertain(offset.ppm, COVERAGE * offset.standard_ppm)


def _noise_floor_db(ready: Ready, passages: Passages) -> float:
    """RMS of the noise re RMS of the recording while the stimulus sounds, dB."""
    length, record = passages.passage_v.size, ready.record_v
    begins = [ready.place + i * passages.period for i in ready.sound]
    first = record[max(begins[0], 0) : begins[0] + length]
    if len(begins) > 1 and begins[0] >= 0 and begins[1] + length <= record.size:
        second = record[begins[1] : begins[1] + length]
        noise = float(np.sqrt(np.mean((first - second) ** 2) / 2))
    else:
        lead = record[: max(ready.place - length // 50, 0)]
        noise = float(np.sqrt(np.mean(lead**2))) if lead.size > 100 else 0.0
    signal = float(np.sqrt(np.mean(first**2)))
    return float(20 * np.log10(max(noise, 1e-12) / max(signal, 1e-12)))
