"""A source through a filter until it stands still, and that at a level to listen at."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.character.subject import Subject
from jiyuu.circuits.linear import poles
from jiyuu.errors import SignalError
from jiyuu.measurement.levels import loudness_lufs
from jiyuu.measurement.timbre import EAR_RATE_HZ, Spectrum, spectrum_of
from jiyuu.signals.source import Source, SourceKind
from jiyuu.simulation.render import render
from jiyuu.simulation.renderer import LATENCY

LISTENING_DB = 70.0  # re 20 µPa: the loudness (ITU-R BS.1770) that sounds are brought to
REFERENCE_PA = 20e-6
HEARD_S = 1.0
SETTLED_T60 = 1.5  # of the slowest pole's ring, that pass before anything is read
SHORTEST_S, LONGEST_S = 0.25, 4.0  # of that
REPEATED = 1e-4  # that a second look differs by, and counts as the same
ERROR = 2e-4  # of what is simulated, relative

PERIODS = {SourceKind.SAW: 1, SourceKind.SQUARE: 1, SourceKind.PULSE: 1, SourceKind.TRIANGLE: 1, SourceKind.SINE: 1,
           SourceKind.CHORD: 4}  # of the pitch, after which the source begins anew
STEADY = frozenset({*PERIODS, SourceKind.WHITE, SourceKind.PINK})


@dataclass(frozen=True, eq=False)
class Played:
    """What goes in and what comes out, (n,) volts at rate_hz, both settled. periodic: it holds whole periods."""

    source: Source
    input_v: FloatArray
    output_v: FloatArray
    rate_hz: float
    periodic: bool

    @property
    def input_lines(self) -> Spectrum:
        return spectrum_of(self.input_v, self.rate_hz, periodic=self.source.kind in PERIODS)

    @property
    def output_lines(self) -> Spectrum:
        return spectrum_of(self.output_v, self.rate_hz, periodic=self.periodic)

    @cached_property
    def repeats(self) -> bool:
        """Whether its second half is its first."""
        if not self.periodic:
            return False
        first, second = self.output_v[: self.output_v.size // 2], self.output_v[self.output_v.size // 2 :]
        return bool(np.std(first - second) <= REPEATED * np.std(self.output_v))

    def half(self, which: int) -> Played:
        """The first (0) or the second (1) half: two looks at the same thing."""
        middle = self.output_v.size // 2
        part = slice(0, middle) if which == 0 else slice(middle, 2 * middle)
        return replace(self, input_v=self.input_v[part], output_v=self.output_v[part])


@dataclass(frozen=True)
class Listening:
    """How sounds are brought to the ear: each to LISTENING_DB by itself (equal), or all by the one factor that brings
    the source there (as they are)."""

    equal: bool = True

    def pressure_pa(self, played: Played) -> FloatArray:
        """(n,) pascals. Raises SignalError for a sound that is silent."""
        return played.output_v * self.factor(played)

    def factor(self, played: Played) -> float:
        """Pascals a volt. Raises SignalError for a sound that is silent."""
        heard_db = loudness_db(played.output_v if self.equal else played.input_v, played.rate_hz)
        return float(10 ** ((LISTENING_DB - heard_db) / 20)) * REFERENCE_PA


def loudness_db(record_v: FloatArray, rate_hz: float) -> float:
    """ITU-R BS.1770 loudness in LU re 1 V. Raises SignalError for silence."""
    found = loudness_lufs(record_v, rate_hz)
    if found is None:
        # The gate of the standard shuts at −70 LUFS; what is that soft is loudness all the same.
        peak = float(np.abs(record_v).max(initial=0.0))
        found = None if not peak > 0 else loudness_lufs(record_v / peak, rate_hz)
        if found is None:
            raise SignalError("The sound is silent, so it cannot be brought to a loudness; raise its level.")
        return found + 20 * float(np.log10(peak))
    return found


def play(subject: Subject, source: Source) -> Played:
    """A steady source through a filter, settled. Raises SignalError for a source that does not stand still."""
    if source.kind not in STEADY:
        raise SignalError(f"A {source.kind} does not stand still; give one of: "
                          f"{', '.join(sorted(str(kind) for kind in STEADY))}.")
    rings_s = ring_s(subject)
    record, rate, kept = _record(source, float(np.clip(SETTLED_T60 * rings_s, SHORTEST_S, LONGEST_S)))
    periodic = source.kind in PERIODS and not subject.whistles
    output = _repeated(subject, source, record, rate, kept, rings_s) if periodic else None
    if output is None:
        output = _through(subject, record, rate)[-kept:]
    return Played(source, record[-kept:], output, rate, periodic)


def _through(subject: Subject, record: FloatArray, rate_hz: float) -> FloatArray:
    return render(subject.network, record * subject.drive, sample_rate_hz=rate_hz, cutoff_hz=subject.cutoff_hz,
                  gain=subject.gain, modes=[subject.mode]).output_v[0]


def _repeated(
    subject: Subject, source: Source, record: FloatArray, rate_hz: float, kept: int, rings_s: float
) -> FloatArray | None:
    """(kept,) what a source that repeats comes to, by two of its periods as soon as they are alike; None where they are
    not, as where something moves slowly."""
    period = round(PERIODS[source.kind] / source.pitch_hz * rate_hz)
    behind = -(-LATENCY // period) * period  # the end of a record is heard ahead of it
    rings = int(np.ceil(rings_s * rate_hz / period)) * period
    last = min(record.size - kept + rings + 2 * period, record.size - behind)
    if last < record.size - kept + 2 * period:
        return None
    two = _through(subject, record[: last + behind], rate_hz)[last - 2 * period : last]
    apart = float(np.std(two[:period] - two[period:]))
    # As little as leaves no more than REPEATED between two halves of all.
    if not apart <= REPEATED * 2 * period / kept * float(np.std(two)):
        return None
    return np.tile(two, kept // (2 * period))


def ring_s(subject: Subject) -> float:
    """Seconds in which the slowest pole dies away by 60 dB; of a filter that whistles, in which it grows as much."""
    slowest = float(np.abs(poles(subject.network, cutoff_hz=subject.cutoff_hz, gain=subject.gain).real).min())
    return float(np.log(1000) / max(slowest, 1e-3))


def _record(source: Source, wait_s: float) -> tuple[FloatArray, float, int]:
    """(volts (n,), rate, how many samples at the end are looked at): an even number of whole periods."""
    if source.kind not in PERIODS:
        kept = round(4 * HEARD_S * EAR_RATE_HZ)
        seconds = wait_s + 4 * HEARD_S
        return source.drawn(duration_s=seconds, sample_rate_hz=EAR_RATE_HZ), EAR_RATE_HZ, kept
    period_s = PERIODS[source.kind] / source.pitch_hz
    samples = int(np.ceil(EAR_RATE_HZ * period_s - 1e-9))
    rate = samples / period_s
    one = source.drawn(duration_s=period_s, sample_rate_hz=rate)
    heard = 2 * int(np.ceil(HEARD_S / period_s / 2))
    waited = int(np.ceil(wait_s / period_s))
    return np.tile(one, waited + heard), rate, heard * samples


class Ear:
    """What of one sound is asked more than once."""

    def __init__(self, played: Played, listening: Listening) -> None:
        self.played, self._listening = played, listening

    @cached_property
    def pressure_pa(self) -> FloatArray:
        return self._listening.pressure_pa(self.played)

    @cached_property
    def input_lines(self) -> Spectrum:
        return self.played.input_lines

    @cached_property
    def output_lines(self) -> Spectrum:
        return self.played.output_lines
