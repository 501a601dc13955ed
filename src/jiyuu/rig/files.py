"""The file rig: a stimulus is played through a real unit by other means; here only its files are seen."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import SignalError
from jiyuu.measurement.notice import Notice
from jiyuu.rig.channels import channel_of
from jiyuu.signals.recordings import FULL_SCALE_V, read_to_measure
from jiyuu.signals.transforms import irfft, next_fast_len, rfft


@dataclass(frozen=True, slots=True, eq=False)
class RecordedPair:
    """What was played and what was recorded, volts, one rate."""

    stimulus_v: FloatArray
    recording_v: FloatArray
    sample_rate_hz: float
    chosen: Notice | None = None  # which channel was taken, where there was a choice


def read_pair(
    stimulus: Path, recording: Path, *, full_scale_v: float = FULL_SCALE_V, channel: str | None = None
) -> RecordedPair:
    """Both files of a measurement. channel: left or right, told by the stimulus when not given. Raises SignalError when
    they do not belong together."""
    played = read_to_measure(stimulus, full_scale_v=full_scale_v)
    recorded = read_to_measure(recording, full_scale_v=full_scale_v)
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
    return RecordedPair(played.loudest_v, recorded_v, float(played.sample_rate_hz), chosen)


def _swapped(stimulus_v: FloatArray, recording_v: FloatArray) -> bool:
    """A stimulus is quiet at its beginning but for its own rounding; a recording through cables never is."""
    def quiet(record: FloatArray) -> float:
        return float(np.mean(np.abs(record) < 1e-6 * np.abs(record).max()))

    return quiet(recording_v) > 0.03 and quiet(stimulus_v) < 0.1 * quiet(recording_v)


def tell_apart(first: Path, second: Path, *, full_scale_v: float = FULL_SCALE_V) -> tuple[Path, Path]:
    """(stimulus, recording) of two files given in any order: the stimulus begins with silence and has no noise in it,
    so more of its samples are exactly or nearly zero."""

    def quiet_share(path: Path) -> float:
        record = read_to_measure(path, full_scale_v=full_scale_v).loudest_v
        return float(np.mean(np.abs(record) < 1e-6 * np.abs(record).max()))

    return (first, second) if quiet_share(first) >= quiet_share(second) else (second, first)


def told_of(recording: Path, stimulus: Path | None = None, *, channel: str | None = None,
            full_scale_v: float = FULL_SCALE_V) -> str:
    """What is understood of files before they are measured: rate, length, peaks, which channel is taken and why, the
    sign of what came back. Raises SignalError where they do not read or do not belong together."""
    read = read_to_measure(recording, full_scale_v=full_scale_v)
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
