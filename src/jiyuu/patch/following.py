"""A bank whose bands are as loud as another sound's own bands: what that sound crosses is woken, and nothing else."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.sections import Section
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.motion import Motion
from jiyuu.signals.controls.follower import up_and_down
from jiyuu.simulation.linear_render import GONE, answered


def followed_bank(
    bank: Bank, sound_v: FloatArray, sample_rate_hz: float, octaves: float, motion: Motion
) -> FloatArray:
    """(n,) volts for sound_v (n,). A band's level is its own × (1 − depth + depth × the volts of the followed sound in
    that band, rectified, one pole up and one down). Raises CircuitError where that sound is not known beforehand."""
    follow = bank.follow
    assert follow is not None
    heard = motion.heard(follow.of)
    total = np.zeros(sound_v.size)
    for k, group in enumerate(bank.groups):
        for section, weight in bank.members(k):
            band = Section(section.frequency_hz * 2.0**octaves, section.b, section.a)
            level = up_and_down(_through(band, heard.record_v, heard.sample_rate_hz), heard.sample_rate_hz,
                                attack_s=follow.attack_s, release_s=follow.release_s)
            if heard.sample_rate_hz != sample_rate_hz or level.size != sound_v.size:
                level = np.interp(np.arange(sound_v.size) / sample_rate_hz,
                                  np.arange(level.size) / heard.sample_rate_hz, level)
            total += weight * group.polarity * 10 ** (group.level_db / 20) * (
                1 - follow.depth + follow.depth * level) * _through(band, sound_v, sample_rate_hz)
    return total


def _through(band: Section, sound_v: FloatArray, sample_rate_hz: float) -> FloatArray:
    ring_s = GONE * 2 / band.a[0] / (2 * np.pi * band.frequency_hz)
    return answered(sound_v, sample_rate_hz, int(ring_s * sample_rate_hz) + 1, band.gain)
