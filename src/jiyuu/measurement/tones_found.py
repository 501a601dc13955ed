"""Where the tones of a stepped stimulus are, in it and in a recording of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import Complex64Array, Float32Array, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.tones_heard import steady_part
from jiyuu.measurement.waveform_faults import step_of
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

FEWEST_TONES = 12
SHORTEST_S = 0.05
STEPS_OF_A_GATE = 40.0  # of the recorder, peak to peak, that the softest tone has left where a gate took others
GROSS_S = 0.005  # by which the loudest tones may be off the others
LOOKED_AT = 31  # every so manieth place tells what correlations usually are


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


def those_inside(
    tones: list[slice], lag: int, size: int, sample_rate_hz: float
) -> tuple[list[Notice], list[int]]:
    """(what is said of those that are not whole in a recording of so many samples, the places of the others).

    Raises MeasurementError when most are missing."""
    inside = [i for i, tone in enumerate(tones) if tone.start + lag >= 0 and tone.stop + lag <= size]
    late, early = tones[0].start + lag < 0, tones[-1].stop + lag > size
    if len(inside) < FEWEST_TONES:
        raise MeasurementError(
            "The recording began after most of the tones were played; start recording first." if late else
            "The recording ends before the stimulus does; record until a second after it.")
    found = [Notice(Fault.STARTED_LATE, 0.0, {"late_s": -lag / sample_rate_hz})] if late else []
    return found + ([Notice(Fault.ENDED_EARLY, size / sample_rate_hz)] if early else []), inside


def gated(recording_v: FloatArray, tones: list[slice], unheard: list[int], lag: int) -> bool:
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
class Sought:
    """A stimulus to be found in records of one length: its spectrum, turned the other way, of so many samples. In
    single precision: which of two samples beside each other is the likelier does not matter, and it takes half as
    long."""

    turned: Complex64Array
    size: int

    @classmethod
    def of(cls, stimulus_v: FloatArray, count: int) -> Sought:
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
