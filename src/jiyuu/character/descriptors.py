"""The character of a filter: a dozen numbers, each with its unit, its uncertainty and the least difference that is
noticed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from jiyuu.character.drawn import NOMINAL_V, bass_kept_db, grit_percent, reading_of
from jiyuu.character.scales import ALL, SCALES, Scale
from jiyuu.character.sound import ERROR, Ear, Listening, loudness_db, play
from jiyuu.character.subject import Subject
from jiyuu.circuits.linear import poles
from jiyuu.errors import CircuitError, MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, Kind
from jiyuu.measurement.resonance_curves import body_place_hz
from jiyuu.measurement.timbre import ROUGHNESS_FRAME_S, roughness_asper, sensation_of
from jiyuu.prediction.drive_map import drive_map
from jiyuu.prediction.resonance import study_resonance
from jiyuu.signals.source import PITCHED, Source
from jiyuu.simulation.oscillation import oscillation
from jiyuu.stopping import checkpoint

CALM_V = np.geomspace(0.1, NOMINAL_V, 7)
WHISTLE_OCTAVES = 1 / 6
LEAST_PEAK_DB = 0.5  # over the passband, from which a peak has a frequency: a flatter one stands nowhere for sure
PAIR = 1e-3  # of a pole's size, from which its imaginary part makes it one of a pair
NOTHING = 1e-12  # of the power of a sound: what rounding leaves
EXACT = 1e-6  # of what follows from the drawing alone, in its unit
LEAST_FLOOR = 1e-9


@dataclass(frozen=True, slots=True)
class Descriptor:
    """value and uncertainty (95 %) in the scale's unit; both None where it does not apply, with the reason."""

    scale: Scale
    value: float | None
    uncertainty: float | None
    why_none: str = ""

    @property
    def jnd(self) -> float | None:
        """The least difference that is noticed about this value."""
        return None if self.value is None else self.scale.noticed.at(self.value)


class _NotHere(Exception):
    """A descriptor does not apply; the reason."""


@dataclass(frozen=True, eq=False)
class _Drawing:
    """What follows from the drawing at one setting, small signal."""

    subject: Subject
    reading: CurveReading | None  # None where it whistles

    @cached_property
    def calm(self) -> tuple[float, float]:
        """Both of its numbers come from one map."""
        return _calm(self)


def describe(
    subject: Subject, source: Source, *, listening: Listening | None = None, names: Iterable[str] | None = None
) -> dict[str, Descriptor]:
    """The descriptors by name, those of SCALES when no names are given. Raises SignalError for a source that cannot be
    judged by, or that nothing of comes through."""
    found: dict[str, Descriptor] = {}
    for descriptor in described(subject, source, listening=listening, names=names):
        found[descriptor.scale.name] = descriptor
    return found


def described(
    subject: Subject, source: Source, *, listening: Listening | None = None, names: Iterable[str] | None = None
) -> Iterator[Descriptor]:
    """One after the other, in the order of ALL."""
    chosen = {scale.name for scale in SCALES} if names is None else set(names)
    wanted = [scale for scale in ALL if scale.name in chosen]
    drawing = _Drawing(subject, reading_of(subject))
    heard = listening or Listening()
    ears: list[Ear] = []
    if any(scale.of_sound for scale in wanted):
        played = play(subject, source)
        # Two looks at half of it each: what they differ by is not known. A period that repeats says it all in one.
        halves = [] if played.repeats else [Ear(played.half(0), heard), Ear(played.half(1), heard)]
        ears = [Ear(played, heard), *halves]
    for scale in wanted:
        checkpoint()
        try:
            if scale.of_sound:
                yield _of_sound(scale, subject, ears)
            else:
                value = _OF_DRAWING[scale.name](drawing)
                share, least = _DOUBT.get(scale.name, (0.0, EXACT))
                yield Descriptor(scale, value, max(least, share * abs(value)))
        except _NotHere as reason:
            yield Descriptor(scale, None, None, str(reason))


def _of_sound(scale: Scale, subject: Subject, ears: list[Ear]) -> Descriptor:
    read = _OF_SOUND[scale.name]
    value, *halves = (read(subject, ear) for ear in ears)
    doubt = abs(halves[0] - halves[1]) / np.sqrt(2) if halves else 0.0  # the whole is known better than either half
    least = 1.0 if scale.unit in ("dB", "octaves") else LEAST_FLOOR
    return Descriptor(scale, value, float(max(doubt, ERROR * max(abs(value), least))))


# From the sound


def _brightness(subject: Subject, ear: Ear) -> float:
    source = ear.played.source
    if source.kind not in PITCHED:
        raise _NotHere(f"{source.kind} has no fundamental to measure it from")
    return float(np.log2(ear.output_lines.centroid_hz / source.pitch_hz))


def _sharpness(subject: Subject, ear: Ear) -> float:
    return sensation_of(ear.pressure_pa, ear.played.rate_hz).sharpness_acum


def _body(subject: Subject, ear: Ear) -> float:
    edge = subject.cutoff_hz / 2
    given, left = ear.input_lines.under(edge), ear.output_lines.under(edge)
    if not given > NOTHING * ear.input_lines.total:
        raise _NotHere(f"the source has nothing under {edge:.4g} Hz, half the cutoff")
    return float(10 * np.log10(max(left, 1e-30) / given))


def _roughness(subject: Subject, ear: Ear) -> float:
    played = ear.played
    # Where everything repeats, two frames say as much as many.
    size = int(np.ceil(2 * ROUGHNESS_FRAME_S * played.rate_hz)) if played.repeats else played.output_v.size
    return roughness_asper(ear.pressure_pa[:size], played.rate_hz)


def _whistle_share(subject: Subject, ear: Ear) -> float:
    if not subject.whistles:
        return 0.0
    try:
        tone = oscillation(subject.network, subject.mode, cutoff_hz=subject.cutoff_hz, gain=subject.gain)
    except CircuitError as error:
        raise _NotHere(str(error)) from error
    if tone is None:
        return 0.0
    lines = ear.output_lines
    return 100 * lines.around(tone.frequency_hz, WHISTLE_OCTAVES) / lines.total


def _loudness(subject: Subject, ear: Ear) -> float:
    played = ear.played
    return loudness_db(played.output_v, played.rate_hz) - loudness_db(played.input_v, played.rate_hz)


# From the drawing


def _read(drawing: _Drawing) -> CurveReading:
    if drawing.subject.whistles:
        raise _NotHere("the filter whistles, so it has no response at rest")
    if drawing.reading is None:
        raise _NotHere("the response has no shape that can be read")
    return drawing.reading


def _edge(drawing: _Drawing) -> float:
    drop = _read(drawing).first_octave_drop_db
    if drop is None:
        raise _NotHere("this response has no −3 dB point with an octave beyond it")
    return abs(drop)


def _peak(drawing: _Drawing) -> float:
    peak = _read(drawing).peak_db
    return 0.0 if peak is None else peak


def _cutoff_3db(drawing: _Drawing) -> float:
    reading = _read(drawing)
    found = reading.cutoff_3db_hz or reading.high_3db_hz
    if found is None:
        raise _NotHere("this response has no −3 dB point")
    return found


def _peak_hz(drawing: _Drawing) -> float:
    found = _read(drawing).peak_hz
    if found is None:
        raise _NotHere("this response has no peak")
    return found


def _bass_kept(drawing: _Drawing) -> float:
    _read(drawing)
    return bass_kept_db(drawing.subject)


def _grit(drawing: _Drawing) -> float:
    one = drawing.subject
    if one.whistles:
        raise _NotHere("the filter whistles, so what it adds to a tone is not defined")
    return grit_percent(one)


def _calm_db(drawing: _Drawing) -> float:
    return drawing.calm[0]


def _calm_cents(drawing: _Drawing) -> float:
    moved = drawing.calm[1]
    if not np.isfinite(moved):
        raise _NotHere("there is no peak whose frequency could move")
    return moved


def _calm(drawing: _Drawing) -> tuple[float, float]:
    """(dB, cents) that the peak moves by from 0.1 V to 5 V; where it has gone, it stands 0 dB over the passband."""
    one, kind = drawing.subject, _read(drawing).kind
    body_hz = body_place_hz(kind, one.cutoff_hz)
    found = drive_map(one.network, one.mode, cutoff_hz=one.cutoff_hz, gains=np.array([one.gain]),
                      level_v=CALM_V * one.drive, body_hz=body_hz)
    height = found.peak_db[0] if kind is Kind.BANDPASS else np.maximum(np.nan_to_num(found.over_body_db[0]), 0.0)
    stands = np.isfinite(found.peak_hz[0]) & ((height > LEAST_PEAK_DB) | (kind is Kind.BANDPASS))
    hertz = found.peak_hz[0][stands]
    return float(np.nanmax(height) - np.nanmin(height)), (
        float(1200 * np.log2(hertz.max() / hertz.min())) if hertz.size else float("nan"))


def _snap(drawing: _Drawing) -> float:
    if drawing.subject.whistles:
        raise _NotHere("the filter whistles, so it rings without end")
    one = drawing.subject
    found = poles(one.network, cutoff_hz=one.cutoff_hz, gain=one.gain)
    # What rings is a pair; a coupling capacitor alone only settles.
    pairs = found[np.abs(found.imag) > PAIR * np.abs(found)]
    slowest = float(np.abs((pairs if pairs.size else found).real).min())
    return 1e3 * float(np.log(1000)) / max(slowest, 1e-3)


def _evenness(drawing: _Drawing) -> float:
    one = drawing.subject
    try:
        study = study_resonance(one.filter, one.network, one.mode, cutoff_hz=one.cutoff_hz, with_proposals=False)
    except MeasurementError as error:
        raise _NotHere(str(error)) from error
    if study.taper is None:
        raise _NotHere(study.why_no_taper)
    return 100 * study.taper.evenness


_OF_SOUND: Mapping[str, Callable[[Subject, Ear], float]] = {
    "brightness": _brightness, "sharpness": _sharpness, "body": _body, "roughness": _roughness,
    "whistle_share": _whistle_share, "loudness": _loudness,
}
_OF_DRAWING: Mapping[str, Callable[[_Drawing], float]] = {
    "edge": _edge, "peak": _peak, "bass_kept": _bass_kept, "grit": _grit, "calm": _calm_db,
    "calm_pitch": _calm_cents, "snap": _snap, "evenness": _evenness, "cutoff_3db_hz": _cutoff_3db,
    "peak_hz": _peak_hz,
}
_DOUBT: Mapping[str, tuple[float, float]] = {  # a share of the value, and no less than
    "grit": (1e-3, 1e-4), "calm": (5e-3, 0.01), "calm_pitch": (5e-3, 5.0), "evenness": (1e-2, 0.1),
    "edge": (1e-4, 1e-3), "peak": (1e-4, 1e-3), "cutoff_3db_hz": (1e-5, EXACT), "peak_hz": (1e-5, EXACT),
}
