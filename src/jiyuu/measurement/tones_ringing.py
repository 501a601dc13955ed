"""What still rings while a tone is thought steady: of itself, as it began, and of the ones before it.

A sharp filter takes longer to settle than a tone of a reasonable length lasts. What the tones tell of it foretells the
whole recording, and what is foretold of its rings need not be heard out.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.sent_through import Played
from jiyuu.measurement.tones_heard import HeardTone, steady_part

LEFT = 1e-6  # of a ring, where a tone is taken to be steady, from which on it moves something
SLOWEST, UNSURE_OF_IT = 0.95, 1.0  # share of a step that is left; of all that is ahead


def rings_on(network: NetworkFit, tones: Sequence[slice], sample_rate_hz: float) -> bool:
    """Whether a ring of the network is still there where some of the tones (places in the stimulus) are taken to be
    steady."""
    slowest = float(np.min(-network.poles.real))
    waits_s = min(steady_part(tone).start - tone.start for tone in tones) / sample_rate_hz
    return bool(np.exp(-slowest * waits_s) > LEFT)


def less_rings(
    network: NetworkFit, played: Played, tones: Sequence[tuple[slice, HeardTone]], later: int, sample_rate_hz: float
) -> list[HeardTone]:
    """The tones less what the network says of its rings. tones: each with where it was played, as it was heard; later:
    by how many samples more than they are late the network takes them to be."""
    foretold_v = np.roll(played.behind(network), later)
    pitches = np.array([tone.hertz for _, tone in tones])
    gains = network.at(pitches) * np.exp(-2j * np.pi * pitches * (later / sample_rate_hz))
    return [tone.less(foretold_v[steady_part(place)], sample_rate_hz).moved(complex(gain * tone.into))
            for (place, tone), gain in zip(tones, gains, strict=True)]


def still_ahead(gains: Sequence[ComplexArray], spread: FloatArray) -> tuple[ComplexArray, FloatArray]:
    """(by how much gains (n,) would move yet if rings were foretold over and over, how well that is known (n,)), from
    the last three of them, which come nearer by a nearly constant share (Aitken 1926, Proc. R. Soc. Edinburgh)."""
    before, last = (gains[-2] - gains[-3]) / spread, (gains[-1] - gains[-2]) / spread
    share = float(np.vdot(before, last).real / max(float(np.vdot(before, before).real), 1e-300))
    if not 0 < share < SLOWEST:
        return np.zeros(spread.size, dtype=complex), np.abs(last) * spread / (1 - SLOWEST)
    ahead = last * spread * share / (1 - share)
    return ahead, UNSURE_OF_IT * np.abs(ahead)
