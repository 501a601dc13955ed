"""What still rings while a tone is thought steady: of itself, as it began, and of the ones before it.

A sharp filter takes longer to settle than a tone of a reasonable length lasts. What the tones tell of it foretells the
whole recording, and what is foretold of its rings need not be heard out.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.tones_heard import HeardTone, heard_tone, steady_part
from jiyuu.signals.transforms import irfft, next_fast_len, rfft

LEFT = 1e-6  # of a ring, where a tone is taken to be steady, from which on it moves something
RINGS_S = 2.0  # after which nothing is left that would come round
ABOVE_REST_HZ = 1e-3  # where a network is asked for its gain at rest
SLOWEST, UNSURE_OF_IT = 0.95, 1.0  # share of a step that is left; of all that is ahead


def rings_on(network: NetworkFit, tones: Sequence[slice], sample_rate_hz: float) -> bool:
    """Whether a ring of the network is still there where some of the tones (places in the stimulus) are taken to be
    steady."""
    slowest = float(np.min(-network.poles.real))
    waits_s = min(steady_part(tone).start - tone.start for tone in tones) / sample_rate_hz
    return bool(np.exp(-slowest * waits_s) > LEFT)


def less_rings(
    network: NetworkFit, stimulus_v: FloatArray, record_v: FloatArray, tones: Sequence[tuple[slice, HeardTone]],
    lag: int, later: int, sample_rate_hz: float,
) -> list[HeardTone]:
    """The tones heard again in a record of which is taken what the network says of its rings. tones: each with where it
    was played; lag: samples by which the record is late, later: by how many more the network takes it to be."""
    size = next_fast_len(stimulus_v.size + round(RINGS_S * sample_rate_hz))
    hertz: FloatArray = np.fft.rfftfreq(size, 1 / sample_rate_hz).astype(float)
    hertz[0] = ABOVE_REST_HZ
    turn = np.exp(-2j * np.pi * hertz * (later / sample_rate_hz))
    foretold_v = irfft(rfft(stimulus_v, size) * network.at(hertz) * turn, size)
    found, steady_v = [], record_v.copy()
    pitches = np.array([tone.hertz for _, tone in tones])
    gains = network.at(pitches) * np.exp(-2j * np.pi * pitches * (later / sample_rate_hz))
    for (place, tone), gain in zip(tones, gains, strict=True):
        part = steady_part(place)
        t = np.arange(part.start, part.stop) / sample_rate_hz
        alone_v = np.real(gain * tone.into * np.exp(2j * np.pi * tone.hertz * t))
        steady_v[tone.steady] = record_v[tone.steady] - foretold_v[part] + alone_v
        found.append(heard_tone(stimulus_v, steady_v, place, lag, tone.hertz, sample_rate_hz))
    return found


def still_ahead(gains: Sequence[ComplexArray], spread: FloatArray) -> tuple[ComplexArray, FloatArray]:
    """(by how much gains (n,) would move yet if rings were foretold over and over, how well that is known (n,)), from
    the last three of them, which come nearer by a nearly constant share (Aitken 1926, Proc. R. Soc. Edinburgh)."""
    before, last = (gains[-2] - gains[-3]) / spread, (gains[-1] - gains[-2]) / spread
    share = float(np.vdot(before, last).real / max(float(np.vdot(before, before).real), 1e-300))
    if not 0 < share < SLOWEST:
        return np.zeros(spread.size, dtype=complex), np.abs(last) * spread / (1 - SLOWEST)
    ahead = last * spread * share / (1 - share)
    return ahead, UNSURE_OF_IT * np.abs(ahead)
