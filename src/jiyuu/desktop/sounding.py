"""The source as set up, held ready: its lines and its trace, in and out of responses known on a grid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.bench.setup import Setup, SourceSetting
from jiyuu.circuits.linear import level_db
from jiyuu.signals.source import RECORD_RATE_HZ, mixed_lines, mixed_record
from jiyuu.simulation.source_through import SourceThrough

SHOWN_S = 0.5


@dataclass(frozen=True, slots=True, eq=False)
class Sounded:
    """A source and what comes out of some modes, by small signal: lines (m,) in dB re 1 V, traces (n,) in V; output_db
    (r, m) and output_v (r, n), one row a mode. period_s: of the lowest pitch."""

    modes: tuple[str, ...]
    line_hz: FloatArray
    source_db: FloatArray
    output_db: FloatArray
    source_v: FloatArray
    output_v: FloatArray
    sample_rate_hz: float
    period_s: float


class Sounding:
    """Makes the source anew only when it was changed."""

    def __init__(self) -> None:
        self._inputs: tuple[SourceSetting, ...] = ()
        self._through: SourceThrough | None = None
        self._record: FloatArray = np.zeros(1)
        self._lines: tuple[FloatArray, FloatArray] = (np.ones(1), np.zeros(1))
        self._period_s = 1.0

    def take(self, setup: Setup) -> None:
        """Hold this source. Raises JiyuuError where a file cannot be read."""
        if self._inputs == setup.inputs:
            return
        record, lines = mixed_record(setup.sources(), duration_s=SHOWN_S), mixed_lines(setup.sources())
        self._record, self._lines, self._inputs = record, lines, setup.inputs
        self._through = SourceThrough(record, RECORD_RATE_HZ)
        self._period_s = 1 / min(setting.pitch_hz for setting in setup.inputs)

    def sounded(
        self, modes: Sequence[str], frequency_hz: FloatArray, gains: ComplexArray, *, drive_db: float
    ) -> Sounded:
        """Through gains (r, n) known at frequency_hz (n,)."""
        assert self._through is not None
        hertz, volts = self._lines
        source_db = np.maximum(level_db(volts), -180.0)
        place, octave = np.log2(hertz), np.log2(frequency_hz)
        through = np.stack([np.interp(place, octave, row) for row in level_db(gains)])
        drive = 10 ** (drive_db / 20)
        return Sounded(
            tuple(modes), hertz, source_db, source_db + drive_db + through, self._record,
            np.stack([drive * self._through.output_v(frequency_hz, row) for row in gains]), RECORD_RATE_HZ,
            self._period_s,
        )
