"""The file rig: a stimulus is played through a real unit by other means; here only its files are seen."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.measurement.notice import Notice
from jiyuu.rig.channels import channel_of
from jiyuu.rig.long_recordings import part_with
from jiyuu.signals.recordings import (
    FULL_SCALE_V,
    Recording,
    may_be_measured,
    read_part,
    read_to_measure,
    size_of,
)
from jiyuu.signals.transforms import irfft, next_fast_len, rfft


@dataclass(frozen=True, slots=True, eq=False)
class RecordedPair:
    """What was played and what was recorded, volts, one rate."""

    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    chosen: Notice | None = None  # which channel was taken, where there was a choice
    begins_s: float = 0.0  # of the recording, where only the part of it was read in which the stimulus stands
    told: str = ""  # which part that is

    @property
    def which(self) -> str:
        """Behind the name of the recording: nothing where all of it was read."""
        return f" from {self.begins_s:.1f} s on" if self.told else ""

    def of_whole(self, notices: Iterable[Notice]) -> tuple[Notice, ...]:
        """Notices with their times counted from the beginning of the file; first of all which channel was taken."""
        later = (one if one.at_s is None else replace(one, at_s=one.at_s + self.begins_s) for one in notices)
        return (*(() if self.chosen is None else (self.chosen,)), *later)


def read_pair(
    stimulus: Path, recording: Path, *, full_scale_v: float = FULL_SCALE_V, channel: str | None = None
) -> RecordedPair:
    """Both files of a measurement. channel: left or right, told by the stimulus when not given. Raises SignalError when
    they do not belong together."""
    played = read_to_measure(stimulus, full_scale_v=full_scale_v)
    recorded, begins_s = _recorded(recording, played, full_scale_v=full_scale_v)
    if played.sample_rate_hz != recorded.sample_rate_hz:
        raise SignalError(
            f"{recording} has a rate of {recorded.sample_rate_hz} Hz and the stimulus {played.sample_rate_hz} Hz; "
            "record at the rate of the stimulus."
        )
    if _swapped(played.loudest_v, recorded.loudest_v):
        raise SignalError(
            f"{stimulus} and {recording} look swapped: the second begins with silence that has no noise in it, as only "
            "a stimulus does; give the file that was played first."
        )
    recorded_v, chosen = channel_of(recorded, played.loudest_v, channel)
    rate = played.sample_rate_hz
    told = _which(recording, begins_s, recorded) if recorded.cut_short else ""
    return RecordedPair(played.loudest_v, recorded_v, float(rate), chosen, begins_s, told)


def _recorded(recording: Path, played: Recording, *, full_scale_v: float) -> tuple[Recording, float]:
    """(what is measured of a recording, where in it that begins in s)."""
    if may_be_measured(recording, full_scale_v=full_scale_v):
        return read_to_measure(recording, full_scale_v=full_scale_v), 0.0
    return _part(recording, played.loudest_v, played.sample_rate_hz, full_scale_v=full_scale_v)


def _part(
    recording: Path, stimulus_v: FloatArray, sample_rate_hz: int, *, full_scale_v: float
) -> tuple[Recording, float]:
    part = part_with(recording, stimulus_v, sample_rate_hz)
    return read_part(recording, part.start, part.stop, full_scale_v=full_scale_v), part.start / sample_rate_hz


def read_where(
    recording: Path, played: Callable[[float], FloatArray], *, full_scale_v: float = FULL_SCALE_V
) -> tuple[Recording, float, str]:
    """(a recording, or the part of one that is too long in which the stimulus stands, where that begins in s, which
    part it is in words): played makes the stimulus at a rate. Raises SignalError with what to do."""
    if may_be_measured(recording, full_scale_v=full_scale_v):
        return read_to_measure(recording, full_scale_v=full_scale_v), 0.0, ""
    rate = size_of(recording)[1]
    read, begins_s = _part(recording, played(float(rate)), rate, full_scale_v=full_scale_v)
    return read, begins_s, _which(recording, begins_s, read)


def _which(recording: Path, begins_s: float, read: Recording) -> str:
    return (f"{recording.name} is too long to be measured as a whole: {begins_s:.1f} to "
            f"{begins_s + read.channels_v.shape[1] / read.sample_rate_hz:.1f} s of it are, where the stimulus is "
            "clearest.")


def _swapped(stimulus_v: FloatArray, recording_v: FloatArray) -> bool:
    """A stimulus is quiet at its beginning but for its own rounding; a recording through cables never is."""
    def quiet(record: FloatArray) -> float:
        return float(np.mean(np.abs(record) < 1e-6 * np.abs(record).max()))

    return quiet(recording_v) > 0.03 and quiet(stimulus_v) < 0.1 * quiet(recording_v)


def tell_apart(first: Path, second: Path, *, full_scale_v: float = FULL_SCALE_V) -> tuple[Path, Path]:
    """(stimulus, recording) of two files given in any order: the stimulus begins with silence and has no noise in it,
    so more of its samples are exactly or nearly zero. What is too long to be measured is a recording."""
    fit = [may_be_measured(path, full_scale_v=full_scale_v) for path in (first, second)]
    if fit[0] != fit[1]:
        return (first, second) if fit[0] else (second, first)

    def quiet_share(path: Path) -> float:
        record = read_to_measure(path, full_scale_v=full_scale_v).loudest_v
        return float(np.mean(np.abs(record) < 1e-6 * np.abs(record).max()))

    return (first, second) if quiet_share(first) >= quiet_share(second) else (second, first)


def told_of(recording: Path, stimulus: Path | None = None, *, channel: str | None = None,
            full_scale_v: float = FULL_SCALE_V) -> str:
    """What is understood of files before they are measured: rate, length, peaks, which channel is taken and why, the
    sign of what came back. Raises SignalError where they do not read or do not belong together."""
    read = (read_to_measure(recording, full_scale_v=full_scale_v) if stimulus is None else _recorded(
        recording, read_to_measure(stimulus, full_scale_v=full_scale_v), full_scale_v=full_scale_v)[0])
    peaks = [float(np.abs(one).max()) for one in read.channels_v]
    names = ("",) if len(peaks) == 1 else ("left ", "right ")
    levels = ", ".join(f"{name}peak {peak:.3g} V ({20 * np.log10(max(peak, 1e-9) / full_scale_v):+.1f} dB re full "
                       f"scale of {full_scale_v:g} V)" for name, peak in zip(names, peaks, strict=True))
    said = [f"{recording.name}: {read.sample_rate_hz} Hz, {'mono' if len(peaks) == 1 else 'stereo'}, "
            f"{read.channels_v.shape[1] / read.sample_rate_hz:.1f} s, {levels}."]
    if stimulus is None:
        return said[0].replace("-", "−")
    pair = read_pair(stimulus, recording, channel=channel, full_scale_v=full_scale_v)
    said.append(f"{stimulus.name}: {pair.stimulus_v.size / pair.sample_rate_hz:.1f} s, peak "
                f"{np.abs(pair.stimulus_v).max():.3g} V.")
    said += [pair.told] if pair.told else []
    taken = pair.recording_v
    if len(peaks) > 1:
        which = int(np.argmin([float(np.abs(one - taken).max()) for one in read.channels_v]))
        said.append(f"The {names[which].strip()} channel is taken.")
    said.append("It comes back upside down." if _sign(pair.stimulus_v, taken) < 0 else "Its sign is that of the "
                "stimulus.")
    return " ".join(said).replace("-", "−")


def _sign(stimulus_v: FloatArray, recording_v: FloatArray) -> int:
    """Of the largest value of the correlation between the two."""
    size = next_fast_len(stimulus_v.size + recording_v.size)
    found = irfft(rfft(recording_v, size) * np.conj(rfft(stimulus_v, size)), size)
    return int(np.sign(found[int(np.argmax(np.abs(found)))]))
