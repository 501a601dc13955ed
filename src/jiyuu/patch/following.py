"""A bank whose bands are as loud as another sound's own bands: what that sound crosses is woken, and nothing else."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.sections import Section
from jiyuu.patch.heard import HeardRecord, between_samples
from jiyuu.patch.linear_stages import Bank
from jiyuu.patch.motion import Motion
from jiyuu.signals.controls.follower import up_and_down
from jiyuu.signals.long_record import Record
from jiyuu.simulation.linear_render import GONE, answered


def followed_bank(bank: Bank, played: Record, sample_rate_hz: float, octaves: float, motion: Motion) -> Record:
    """Volts for what is played. A band's level is its own × (1 − depth + depth × the volts of the followed sound in
    that band, rectified, one pole up and one down). Raises CircuitError where that sound is not known beforehand."""
    follow = bank.follow
    assert follow is not None
    heard = motion.heard(follow.of)
    total: Record | None = None
    for k, group in enumerate(bank.groups):
        for section, weight in bank.members(k):
            band = Section(section.frequency_hz * 2.0**octaves, section.b, section.a)
            level = up_and_down(_through(band, heard.record, heard.sample_rate_hz), heard.sample_rate_hz,
                                attack_s=follow.attack_s, release_s=follow.release_s)
            factor = weight * group.polarity * 10 ** (group.level_db / 20)
            parts = [_through(band, played, sample_rate_hz), *([] if total is None else [total])]
            total = Record.gathered(_added(parts, HeardRecord(level, heard.sample_rate_hz), sample_rate_hz, factor,
                                           follow.depth))
    return played if total is None else total


def _added(
    parts: Sequence[Record], level: HeardRecord, sample_rate_hz: float, factor: float, depth: float
) -> Iterator[FloatArray]:
    """One band as loud as it is woken, on top of what there is."""
    start = 0
    for band, *before in zip(*(one.blocks() for one in parts), strict=True):
        times_s = np.arange(start, start + band.size) / sample_rate_hz
        woken = between_samples(level.record, level.sample_rate_hz, times_s)
        start += band.size
        yield factor * (1 - depth + depth * woken) * band + sum(before, np.zeros(band.size))


def _through(band: Section, played: Record, sample_rate_hz: float) -> Record:
    ring_s = GONE * 2 / band.a[0] / (2 * np.pi * band.frequency_hz)
    return answered(played, sample_rate_hz, int(ring_s * sample_rate_hz) + 1, band.gain)
