"""What a sound's own loudness makes of a control: a band of it rectified, behind a pole that goes up by one time
constant and down by another."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.controls.follower_kernel import follow
from jiyuu.signals.long_record import Record, weighted

ORDER = 2  # of either end of the band
OPEN = 0.49  # of the rate: an upper end past this is none


def followed(
    heard: Record, sample_rate_hz: float, *, low_hz: float, high_hz: float, attack_s: float, release_s: float,
    gain: float,
) -> Record:
    """Volts × gain at every sample of what is heard; 0 before it."""
    from scipy.signal import butter

    ends = []
    if low_hz > 0:
        ends.append(butter(ORDER, low_hz, "highpass", fs=sample_rate_hz, output="sos"))
    if high_hz < OPEN * sample_rate_hz:
        ends.append(butter(ORDER, high_hz, "lowpass", fs=sample_rate_hz, output="sos"))
    banded = Record.gathered(_through(np.concatenate(ends), heard)) if ends else heard
    return weighted([up_and_down(banded, sample_rate_hz, attack_s=attack_s, release_s=release_s)], [gain])


def _through(sections: FloatArray, heard: Record) -> Iterator[FloatArray]:
    from scipy.signal import sosfilt

    state = np.zeros((sections.shape[0], 2))
    for block in heard.blocks():
        found, state = sosfilt(sections, block, zi=state)
        yield found


def up_and_down(heard: Record, sample_rate_hz: float, *, attack_s: float, release_s: float) -> Record:
    """What is heard rectified, behind one pole upwards and another downwards."""
    up, down = (float(np.exp(-1 / (max(tau, 1e-9) * sample_rate_hz))) for tau in (attack_s, release_s))
    found = Record()
    for block in heard.blocks():
        stands = float(found.read(found.size - 1, found.size)[0]) if found.size else 0.0
        found.add(follow(np.abs(block), up, down, stands))
    return found
