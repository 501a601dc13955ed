"""A source as it is set on the bench: what, at which pitch and level; as a record, and as lines to predict with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.signals import sources
from jiyuu.signals.transforms import irfft, rfft

HIGHEST_HZ = 20_000.0
RECORD_RATE_HZ = 48_000.0
NOISE_CREST = 4.0  # peak over RMS of Gaussian noise that is passed once in some ten thousand samples


class SourceKind(StrEnum):
    SAW = "saw"
    SQUARE = "square"
    PULSE = "pulse"
    TRIANGLE = "triangle"
    SINE = "sine"
    WHITE = "white noise"
    PINK = "pink noise"
    CHORD = "chord"
    FIGURE = "tide figure"
    WASH = "wave wash"
    KNOCK = "low knock"
    KNOCKS = "knock figure"
    FILE = "file"


PITCHED = frozenset({
    SourceKind.SAW, SourceKind.SQUARE, SourceKind.PULSE, SourceKind.TRIANGLE, SourceKind.SINE, SourceKind.CHORD,
    SourceKind.FIGURE, SourceKind.KNOCK, SourceKind.KNOCKS,
})
IN_BARS = frozenset({SourceKind.FIGURE, SourceKind.KNOCK, SourceKind.KNOCKS})  # of eight steps
_CORNERED = PITCHED - {SourceKind.SINE, SourceKind.TRIANGLE, SourceKind.KNOCK, SourceKind.KNOCKS}
_PERIODIC = PITCHED - IN_BARS


@dataclass(frozen=True, slots=True)
class Source:
    """kind; pitch_hz where it has one; level_v peak (of noise: about the peak, a quarter of it RMS); width of a pulse;
    path of a file."""

    kind: SourceKind = SourceKind.SAW
    pitch_hz: float = 110.0
    level_v: float = 5.0
    width: float = 0.25
    path: Path | None = None

    def __post_init__(self) -> None:
        if not (np.isfinite(self.level_v) and 0 <= self.level_v <= 100):
            raise SignalError(f"A source of {self.level_v:g} V is out of range; give 0 to 100 V.")
        if self.kind in PITCHED and not (np.isfinite(self.pitch_hz) and 1 <= self.pitch_hz <= HIGHEST_HZ):
            raise SignalError(f"A pitch of {self.pitch_hz:g} Hz is out of range; give 1 Hz to 20 kHz.")
        if not 0.01 <= self.width <= 0.99:
            raise SignalError(f"A pulse width of {self.width:g} is out of range; give 1 to 99 %.")
        if self.kind is SourceKind.FILE and self.path is None:
            raise SignalError("A source from a file needs the file; choose one.")

    def record(self, *, duration_s: float, sample_rate_hz: float = RECORD_RATE_HZ, seed: int = 3) -> FloatArray:
        """(n,) volts. A file is repeated or cut to the duration and brought to level_v peak. Corners are rounded off
        within the rate, so that no peak stands over them that no circuit would show."""
        made = self.drawn(duration_s=duration_s, sample_rate_hz=sample_rate_hz, seed=seed)
        return _rounded(made) if self.kind in _CORNERED else made

    def drawn(self, *, duration_s: float, sample_rate_hz: float = RECORD_RATE_HZ, seed: int = 3) -> FloatArray:
        """(n,) volts as record, with every harmonic under half the rate as it is."""
        at = {"level_v": self.level_v, "duration_s": duration_s, "sample_rate_hz": sample_rate_hz}
        match self.kind:
            case SourceKind.SAW:
                return sources.saw(self.pitch_hz, **at)
            case SourceKind.SQUARE:
                return sources.pulse(self.pitch_hz, **at)
            case SourceKind.PULSE:
                return sources.pulse(self.pitch_hz, width=self.width, **at)
            case SourceKind.TRIANGLE:
                return sources.triangle(self.pitch_hz, **at)
            case SourceKind.SINE:
                return sources.sine(self.pitch_hz, **at)
            case SourceKind.CHORD:
                return sources.chord(self.pitch_hz, **at)
            case SourceKind.FIGURE:
                return sources.tide_figure(self.pitch_hz, **at)
            case SourceKind.KNOCK | SourceKind.KNOCKS:
                return sources.knock_figure(self.pitch_hz, ticks=self.kind is SourceKind.KNOCKS, **at)
            case SourceKind.WASH:
                return sources.wave_wash(seed=seed, **at)
            case SourceKind.WHITE | SourceKind.PINK:
                if self.level_v == 0:
                    return np.zeros(round(duration_s * sample_rate_hz))
                pink = self.kind is SourceKind.PINK
                return sources.noise(seed=seed, pink=pink, **{**at, "level_v": self.level_v / NOISE_CREST})
        return self._from_file(duration_s, sample_rate_hz)

    def _from_file(self, duration_s: float, sample_rate_hz: float) -> FloatArray:
        from scipy.signal import resample_poly

        from jiyuu.signals.recordings import read_recording

        assert self.path is not None
        recording = read_recording(self.path)
        sound = recording.loudest_v
        if recording.sample_rate_hz != sample_rate_hz:
            up, down = int(sample_rate_hz), recording.sample_rate_hz
            shared = int(np.gcd(up, down))
            sound = resample_poly(sound, up // shared, down // shared)
        return np.asarray(np.resize(sound, round(duration_s * sample_rate_hz)) * self.level_v / np.abs(sound).max())

    def lines(self) -> tuple[FloatArray, FloatArray]:
        """(hertz, peak volts of each line) up to 20 kHz: harmonics of a periodic source; else sixths of an octave that
        hold the power of the record."""
        if self.kind not in _PERIODIC:
            return self._bands()
        if self.kind is SourceKind.CHORD:
            return _triad(self.pitch_hz, self.level_v)
        width = self.width if self.kind is SourceKind.PULSE else 0.5
        return _harmonics(self.kind, self.pitch_hz, self.level_v, width)

    def _bands(self) -> tuple[FloatArray, FloatArray]:
        rate = RECORD_RATE_HZ
        record = self.record(duration_s=8 * 8 * sources.STEP_S if self.kind in IN_BARS else 8.0)
        power = 2 * np.abs(rfft(record)) ** 2 / record.size**2
        hertz = np.fft.rfftfreq(record.size, 1 / rate)
        edges = np.minimum(20.0 * 2 ** (np.arange(61) / 6), HIGHEST_HZ)
        centres = np.sqrt(edges[1:] * edges[:-1])
        sums = np.concatenate([[0.0], np.cumsum(power)])
        held = np.diff(sums[np.searchsorted(hertz, edges)])
        return centres, np.sqrt(2 * held)


def _rounded(record: FloatArray) -> FloatArray:
    """Lanczos' factors over the whole band: what a series cut off at half the rate overshoots, they take away
    (Lanczos 1956, Applied Analysis)."""
    spectrum = rfft(record)
    return np.asarray(irfft(spectrum * np.sinc(np.linspace(0.0, 1.0, spectrum.size)), record.size))


def _harmonics(kind: SourceKind, pitch_hz: float, level_v: float, width: float) -> tuple[FloatArray, FloatArray]:
    n = np.arange(1, max(int(HIGHEST_HZ / pitch_hz), 1) + 1)
    match kind:
        case SourceKind.SINE:
            volts = np.where(n == 1, 1.0, 0.0)
        case SourceKind.TRIANGLE:
            volts = np.where(n % 2 == 1, 8 / np.pi**2 / n**2, 0.0)
        case SourceKind.SAW:
            volts = 2 / np.pi / n
        case _:
            volts = 4 / np.pi / n * np.abs(np.sin(np.pi * n * width))
    kept = volts > 1e-9
    return np.asarray(n[kept] * pitch_hz, dtype=float), np.asarray(level_v * volts[kept])


def _triad(pitch_hz: float, level_v: float) -> tuple[FloatArray, FloatArray]:
    """Three saws; harmonics that fall together add with their signs."""
    parts = [_harmonics(SourceKind.SAW, ratio * pitch_hz, level_v / len(sources.CHORD_RATIOS), 0.5)
             for ratio in sources.CHORD_RATIOS]
    hertz = np.concatenate([hz for hz, _ in parts])
    signed = np.concatenate([volts * (-1.0) ** np.arange(volts.size) for _, volts in parts])
    places, which = np.unique(np.round(hertz, 6), return_inverse=True)
    volts = np.abs(np.bincount(which, signed))
    kept = volts > 1e-9
    return places[kept], volts[kept]


def mixed_lines(inputs: Sequence[Source]) -> tuple[FloatArray, FloatArray]:
    """Lines of several inputs together; lines of one frequency are left beside each other (their phases are free).
    Raises SignalError where there is none."""
    if not inputs:
        raise SignalError("There is no source; choose one.")
    parts = [source.lines() for source in inputs]
    return np.concatenate([hz for hz, _ in parts]), np.concatenate([volts for _, volts in parts])


def mixed_record(inputs: Sequence[Source], *, duration_s: float, sample_rate_hz: float = RECORD_RATE_HZ) -> FloatArray:
    """(n,) volts: the sum of the inputs. Raises SignalError where there is none."""
    if not inputs:
        raise SignalError("There is no source; choose one.")
    records = [
        source.record(duration_s=duration_s, sample_rate_hz=sample_rate_hz, seed=3 + i)
        for i, source in enumerate(inputs)
    ]
    return np.asarray(np.sum(records, axis=0))
