"""What drive does to what rings: a note through a patch, and what is left once it has ended, over a ladder of levels.

Combs, banks and all-pass chains are straight by themselves. What bends ahead of them makes a loud note wake them by
less than in proportion and by harmonics that it did not have; what bends in a loop with them shortens the ring too."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.contexts_moving import DrivenRing
from jiyuu.measurement.finding import Finding
from jiyuu.patch.between_stages import Comb
from jiyuu.patch.document import AnyStage, Chord, Patch, stages_in
from jiyuu.patch.linear_stages import AllPass, Bank
from jiyuu.patch.playing import play_patch
from jiyuu.signals.transforms import rfft

RATE_HZ = 48_000
NOTE_S, FADE_S = 0.5, 0.005
AFTER_S = 0.02  # behind the note's end: what fades with it is not its ring
TAIL_S, LONGEST_S = 1.5, 8.0  # waited for first, and at most; what lasts longer is told by how it falls
HEARD_HZ = 20.0
DIED_DB = 60.0  # from the beginning of the wait to its end
READ_DB = (-5.0, -35.0)  # of the energy still to come, between which its fall is read
STEADY = 0.9  # of its first power, that is left at the end of what stands
SEEN_S = (0.05, 0.5)  # of a ring, for its middle: half of T60 within these
SILENT_V = 1e-9


@dataclass(frozen=True, slots=True)
class Rung:
    """A note of input_peak_v: ring_v RMS over both sides in the first tenth of a second behind it; behind_db: by how
    much less than in proportion to the softest note; ring_s (T60) or None where it does not die; centre_hz: middle of
    its power."""

    input_peak_v: float
    ring_v: float
    behind_db: float
    ring_s: float | None
    centre_hz: float


def rings(path: Sequence[AnyStage]) -> bool:
    """Whether a path holds what goes on after a note."""
    return any(isinstance(stage, Comb | Chord | Bank | AllPass) and not stage.off for stage in stages_in(path))


def note_of(sound_v: FloatArray) -> FloatArray:
    """(n,) of NOTE_S: its end faded within milliseconds, as a key is let go."""
    note = np.array(sound_v[: round(NOTE_S * RATE_HZ)])
    fade = round(FADE_S * RATE_HZ)
    note[-fade:] *= 0.5 * (1 + np.cos(np.pi * (np.arange(fade) + 1) / fade))
    return note


def ring_ladder(patch: Patch, sound_v: FloatArray, levels_v: Sequence[float]) -> Iterator[Rung]:
    """One by one, the softest first; sound_v (n,) at RATE_HZ, NOTE_S long at least, of any level. Raises CircuitError
    and SignalError as play_patch does."""
    note = note_of(sound_v)
    note /= max(float(np.abs(note).max()), SILENT_V)
    softest: float | None = None
    for level_v in sorted(levels_v):
        tail, dies = _tail(patch, note * level_v)
        ring_v = float(np.sqrt(np.mean(np.sum(tail[:, : RATE_HZ // 10] ** 2, axis=0))))
        per_volt = ring_v / level_v
        softest = per_volt if softest is None else softest
        behind_db = 20 * float(np.log10(max(softest, SILENT_V) / max(per_volt, SILENT_V)))
        ring_s = _t60(tail) if dies else _t60_of_what_lasts(tail)
        yield Rung(float(level_v), ring_v, behind_db, ring_s, _centre(tail, ring_s))


def _tail(patch: Patch, note: FloatArray) -> tuple[FloatArray, bool]:
    """((sides, n) volts behind the note, what can be heard of them; whether they die)."""
    from scipy.signal import butter, sosfilt

    begins, wait_s = note.size + round(AFTER_S * RATE_HZ), TAIL_S
    # A circuit that was pushed off its rest creeps back to it, louder than what rings and under all hearing.
    heard = butter(2, HEARD_HZ, "highpass", fs=RATE_HZ, output="sos")
    while True:
        played = np.concatenate([note, np.zeros(round(wait_s * RATE_HZ))])
        tail = sosfilt(heard, play_patch(patch, played[np.newaxis], RATE_HZ, checked=False), axis=1)[:, begins:]
        tenth = tail.shape[1] // 10
        first, last = (float(np.mean(part**2)) + SILENT_V**2 for part in (tail[:, :tenth], tail[:, -tenth:]))
        fallen_db = 10 * np.log10(first / last)
        if fallen_db >= DIED_DB or first < 2 * SILENT_V**2:
            return tail, True
        if last > STEADY * first or wait_s >= LONGEST_S:
            return tail, False
        wait_s = min(max(1.2 * wait_s * DIED_DB / fallen_db, 1.5 * wait_s), LONGEST_S)


def _t60(tail: FloatArray) -> float:
    """From the energy still to come (Schroeder 1965, JASA), by a straight line through its fall; 0 of silence."""
    to_come = np.cumsum(np.sum(tail**2, axis=0)[::-1])[::-1]
    if to_come[0] <= SILENT_V**2:
        return 0.0
    level = 10 * np.log10(np.maximum(to_come / to_come[0], 1e-30))
    first, last = (int(np.argmax(level <= db)) for db in READ_DB)
    if last - first < 2:
        return 0.0
    times_s = np.arange(first, last) / RATE_HZ
    return float(-60 / np.polyfit(times_s, level[first:last], 1)[0])


def _t60_of_what_lasts(tail: FloatArray) -> float | None:
    """From the power of its tenths; None for what stands."""
    tenth = tail.shape[1] // 10
    power = np.sum(tail[:, : 10 * tenth].reshape(tail.shape[0], 10, tenth) ** 2, axis=(0, 2))
    if power[-1] > STEADY * power[0]:
        return None
    return float(-60 / np.polyfit(np.arange(10) * tenth / RATE_HZ, 10 * np.log10(power), 1)[0])


def _centre(tail: FloatArray, ring_s: float | None) -> float:
    """Seen through a window that swells and dies: the spectrum of what begins at once is as wide as it begins, and its
    mean lies too high."""
    seen_s = SEEN_S[1] if ring_s is None else float(np.clip(0.5 * ring_s, *SEEN_S))
    seen = tail[:, : round(seen_s * RATE_HZ)]
    size = seen.shape[1]
    power = np.sum(np.abs(rfft(seen * np.hanning(size), axis=1)) ** 2, axis=0)
    total = float(power.sum())
    return float(np.sum(power * np.fft.rfftfreq(size, 1 / RATE_HZ)) / total) if total else 0.0


def ring_findings(ladder: Sequence[Rung]) -> list[Finding]:
    """Every level but the softest, beside it."""
    soft = ladder[0]
    return [Finding("ring_behind_db", one.behind_db, "dB", measured=False,
                    context=DrivenRing(one.input_peak_v, soft.input_peak_v, one.ring_s, soft.ring_s, one.centre_hz,
                                       soft.centre_hz)) for one in ladder[1:]]
