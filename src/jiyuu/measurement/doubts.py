"""Which readings of a response a fault has moved, and by how much: intervals are widened, numbers withdrawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.curve_reading import CurveReading, Kind, read_curve
from jiyuu.measurement.estimate import NEARLY_DB, FittedNetwork, missed_db
from jiyuu.measurement.extended import Extended, extended
from jiyuu.measurement.notice import Fault, Notice
from jiyuu.measurement.response import MeasuredResponse

BREAKING = (Fault.SAMPLES_LOST, Fault.GAIN_CHANGED, Fault.DROPOUT, Fault.STARTED_LATE, Fault.ENDED_EARLY, Fault.CLIPPED)
WIDER = 2.0  # an estimate of what is missing is itself only so good
WANDERED, WANDER_SAID_DB = 0.6, 0.02  # of what two passages differ by, as it is doubled; that is worth a sentence
LOUD_OVER_DB = 12.0  # under the top of a curve that noise was pressed into
# Of 180 simulated filters from 5 to 500 mV what was taken off their tops was up to 20 times what the nearest network
# missed there; of one 40 times.
HIDDEN, BODY_DB = 20.0, 6.0
ASTRAY = 1.5  # by how much more a reading may be off than it is from that of the nearest network
SAID_DB = 0.05  # compression that is worth a sentence
SUSPECT_DB = 0.1  # and what may be, where nothing tells how much
LEAST_DB, LEAST_SHARE = 0.01, 1e-3  # that a reading may be off by where no network explains the curve
MOVED_DB = 12.0  # that a peak would have to be pressed by to move by its own width
TOO_MUCH_DB = 0.7  # and from where on an estimate of it no longer mends a number
AT_PEAK = ("peak_hz", "peak_db", "q")
BY_PASSBAND = ("passband_db", "cutoff_3db_hz", "peak_db", "slope_db_per_octave", "first_octave_drop_db",
               "low_3db_hz", "high_3db_hz", "notch_depth_db")
COUPLED_HZ = 40.0  # a coupling capacitor's corner is lower
APART = 2.0  # and so much lower than any pole of the filter
FAR_UNDER = 20.0  # re the band: what stands farther under it is not seen
CANCELLED = 0.01  # of a pole, that a zero may be off and still leaves next to nothing of it
LEANS_DB = 0.3  # how much a curve may still rise or fall over the last half octave before its plateau


@dataclass
class Doubts:
    """withdrawn: names of readings; wider: what is added to the interval of each."""

    notices: list[Notice] = field(default_factory=list)
    withdrawn: set[str] = field(default_factory=set)
    wider: dict[str, float] = field(default_factory=dict)


Reader = Callable[[Extended], CurveReading]


def doubts_of(
    response: MeasuredResponse, whole: Extended, reading: CurveReading, names: tuple[str, ...], read: Reader
) -> Doubts:
    """names: of the readings; read: how another curve on the same grid would be read."""
    found = Doubts()
    faults = {notice.fault for notice in response.notices}
    alone = response.passages == 1 and not response.steady and not response.network_unasked and not (
        _but_for_the_peak(response, whole))
    if response.network is None and (alone or faults & set(BREAKING)):
        found.withdrawn |= set(names)  # no network explains what is left, so it is not whole
        if not faults & set(BREAKING):  # nor does another passage tell what happened; harmonics may
            _compressed(found, response, whole, reading, names, read)
            found.notices = [notice for notice in found.notices if float(notice.facts["db"]) > SAID_DB]
            found.notices.append(Notice(Fault.FEWER_PASSAGES, None, {"used": 1, "played": 1, "unexplained": 1.0}))
        return found
    for band in response.hurt_hz:
        _hurt(found, band, (response.frequency_hz[0], response.frequency_hz[-1]), reading, names)
    if Fault.CLIPPED not in faults:  # its harmonics are those of the clipping
        _compressed(found, response, whole, reading, names, read)
    _wandered(found, response, whole, reading, names, read)
    _interface(found, response, whole, reading, names, read)
    _passband_outside(found, response, whole, reading)
    return found


def _but_for_the_peak(response: MeasuredResponse, whole: Extended) -> bool:
    """Whether the network of its faint parts explains a curve but for what lacks where it is loud."""
    if response.unloaded is None:
        return False
    lacks_db = response.unloaded.level_db(whole.frequency_hz) - whole.level_db
    noise_db = np.interp(whole.frequency_hz, response.frequency_hz, 2 * response.level_uncertainty_db)
    close = np.abs(lacks_db) < np.maximum(noise_db, SAID_DB)
    loud = whole.level_db > whole.level_db[whole.usable].max() - 6
    return bool((close | (loud & (lacks_db > 0)) | ~whole.usable).all())


def withdrawn(reading: CurveReading, names: set[str]) -> CurveReading:
    gone: dict[str, Any] = dict.fromkeys(names)
    return replace(reading, **gone, humps=() if names >= set(AT_PEAK) else reading.humps)


def _hurt(
    found: Doubts, hurt_hz: tuple[float, float], band_hz: tuple[float, float], reading: CurveReading,
    names: tuple[str, ...]
) -> None:
    """band_hz: that was measured, an octave of which at its end is passband at least."""
    low, high = hurt_hz

    def touches(a: float | None, b: float | None) -> bool:
        if a is None or b is None:
            return True
        return min(a, b) < high and max(a, b) > low

    cutoff, peak, q = reading.cutoff_3db_hz, reading.peak_hz, reading.q or 1.0
    for name in names:
        at: tuple[float | None, float | None]
        if name in AT_PEAK or (reading.kind is Kind.BANDPASS and name in BY_PASSBAND):
            at = (None, None) if peak is None else (peak * (1 - 1 / q), peak * (1 + 1 / q))
        elif name in ("cutoff_3db_hz", "high_3db_hz", "low_3db_hz"):
            at = (cutoff, cutoff) if cutoff else (getattr(reading, name), getattr(reading, name))
        elif name in ("slope_db_per_octave", "first_octave_drop_db") and cutoff:
            way = 3 if reading.kind is Kind.LOWPASS else -3
            at = (cutoff, cutoff * 2.0**way)
        elif name == "passband_db" and cutoff:
            at = (0.0, max(cutoff / 8, 2 * band_hz[0])) if reading.kind is Kind.LOWPASS else (
                min(cutoff * 8, band_hz[1] / 2), 1e6)
        else:
            at = (None, None)
        if touches(*at):
            found.withdrawn.add(name)
    if "passband_db" in found.withdrawn:  # what lies 3 dB under it does so under what it was cut off to
        found.withdrawn |= set(BY_PASSBAND)


def _compressed(
    found: Doubts, response: MeasuredResponse, whole: Extended, reading: CurveReading, names: tuple[str, ...],
    read: Reader,
) -> None:
    """By the harmonics, and by what a network says of the loud part that fits the faint ones."""
    alternatives = []
    most_db = 0.0
    if response.compression is not None and response.compression.share.any():
        more = response.compression.restored_db(response.level_db) - response.level_db
        more_db = np.interp(np.log(whole.frequency_hz), np.log(response.frequency_hz), more)
        loud = whole.level_db > whole.level_db[whole.usable].max() - 6
        most_db = float(more_db[loud & whole.usable].max(initial=0.0))
        alternatives.append(more_db)
    if response.unloaded is not None:
        expected_db = response.unloaded.level_db(whole.frequency_hz)
        missing = np.where(whole.usable, expected_db - whole.level_db, 0.0)
        top = int(np.argmax(np.where(whole.usable, expected_db, -np.inf)))
        most_db = max(most_db, float(missing[max(top - 2, 0) : top + 3].max()))
        alternatives.append(missing)
    if response.pressed_db:
        top_db = whole.level_db[whole.usable].max()
        peaks = np.clip(1 + (whole.level_db - top_db) / LOUD_OVER_DB, 0.0, 1.0)  # a ring is pressed more than the rest
        most_db = max(most_db, abs(response.pressed_db))
        alternatives.append(response.pressed_db * (1 + peaks))
    bound_db = _at_most_db(response)
    if most_db > bound_db:
        alternatives = [bound_db / most_db * more_db for more_db in alternatives]
        most_db = bound_db
    for more_db in alternatives:
        _widen_by(found, more_db, whole, reading, names, read)
    no_peak = {} if reading.peak_hz else {"no_peak": 1.0}
    if most_db > SAID_DB:
        level_v = response.level_v or 0.0
        softer = level_v * 10 ** (-max(10 * np.log10(most_db / 0.02), 6.0) / 20)
        found.notices.append(Notice(Fault.COMPRESSED, None, {"db": most_db, "measure_at_v": float(softer), **no_peak}))
    untold = response.network is None and (response.steady or not response.network_unasked)
    suspect = untold and bound_db > SUSPECT_DB and (response.steady or response.unloaded is None)
    if most_db > TOO_MUCH_DB:
        found.withdrawn |= set(names)
    elif suspect and most_db <= SAID_DB:
        # Of tones each was heard once, and nothing else tells what moved them; through noise a sharp peak is heard all
        # over the band, of which only a network tells how much.
        all_of_it = response.steady or response.coherence is not None or reading.kind is Kind.BANDPASS
        found.withdrawn |= set(names) if all_of_it else set(AT_PEAK)
        found.notices.append(Notice(Fault.COMPRESSED, None, {
            "db": float("nan"), "measure_at_v": 0.0, **({"tones": 1.0} if response.steady else {}),
            **no_peak}))
    if suspect and reading.peak_hz and reading.q:  # what is pressed moves within its width
        moved_hz = reading.peak_hz / reading.q * most_db / MOVED_DB
        found.wider["peak_hz"] = max(found.wider.get("peak_hz", 0.0), moved_hz)
    if untold:
        _as_nearest(found, response, reading, names)
    for name in (set(names) - found.withdrawn) if untold else ():
        value = getattr(reading, name)
        least = LEAST_DB if value is None or not name.endswith("_hz") else LEAST_SHARE * value
        found.wider[name] = max(found.wider.get(name, 0.0), least)


def _as_nearest(found: Doubts, response: MeasuredResponse, reading: CurveReading, names: tuple[str, ...]) -> None:
    """By what the nearest network would read instead, which knows plateaus and slopes beyond the band."""
    if response.nearest is None or _at_most_db(response) > HIDDEN * NEARLY_DB:
        return
    drawn = response.nearest.drawn(len(response.draws), np.random.default_rng(29))
    whole = extended(replace(response, network=FittedNetwork(response.nearest, drawn)))
    try:
        other = read_curve(whole.frequency_hz, whole.level_db, usable=whole.usable, kind=reading.kind, with_humps=False,
                           exact=whole.exact)
    except MeasurementError:
        return
    for name in names:
        one, two = getattr(reading, name), getattr(other, name)
        if one is not None and two is not None:
            found.wider[name] = max(found.wider.get(name, 0.0), ASTRAY * abs(two - one))


def _at_most_db(response: MeasuredResponse) -> float:
    """What may have been taken off a curve that a network comes so near to: a network of less resonance looks nearly
    like one that is pressed, but only nearly."""
    if response.nearest is None:
        return np.inf
    return HIDDEN * missed_db(response.nearest, response.frequency_hz, response.gain, BODY_DB)


def _interface(
    found: Doubts, response: MeasuredResponse, whole: Extended, reading: CurveReading, names: tuple[str, ...],
    read: Reader,
) -> None:
    """What falls in the lowest octave as behind a coupling capacitor, the unit's or the interface's. A lowpass does not
    do so by itself; another kind has such a pole far below its own. One among its own is told by being the odd one:
    poles of a filter come in pairs."""
    fit = response.unloaded if response.network is None else response.network.fit
    if fit is None:
        return
    poles = fit.poles
    seen = np.abs(poles) / (2 * np.pi) > response.frequency_hz[0] / FAR_UNDER
    if fit.order.at_rest <= int(np.sum(~seen)):
        return  # what would fall by its zeros at rest has fallen under the band, and no further
    # A pole beside a zero of its own falls by nothing.
    own = np.abs(poles[:, np.newaxis] - fit.zeros[np.newaxis, :]) < CANCELLED * np.abs(poles[:, np.newaxis])
    falls = poles[seen & ~own.any(axis=1)]
    size = np.sort(np.abs(falls)) / (2 * np.pi)
    real = np.abs(falls[np.abs(falls.imag) < 1e-9 * np.abs(falls)].real) / (2 * np.pi)
    if not real.size:
        return
    hertz = float(real.min())
    low = hertz < COUPLED_HZ and size.size > 1
    alone = low and size[0] > 0.999 * hertz and size[1] > APART * hertz
    among = low and real.size % 2 == 1
    if reading.kind is not Kind.LOWPASS and not alone and not among:
        return
    more_db = 10 * np.log10(1 + (hertz / whole.frequency_hz) ** 2)
    without = _more(whole, more_db)
    try:
        kind = read_curve(without.frequency_hz, without.level_db, usable=without.usable, exact=without.exact,
                          with_humps=False).kind
    except MeasurementError:
        kind = reading.kind
    facts: dict[str, float | str] = {"hz": hertz, **({} if alone or not among else {"among": 1.0})}
    if kind is not reading.kind:
        facts["kind"] = kind.value
        found.withdrawn |= set(names) - {"peak_hz"}
    found.notices.append(Notice(Fault.INTERFACE_HIGHPASS, None, facts))
    _widen_by(found, more_db, whole, reading, names, read)


def _wandered(
    found: Doubts, response: MeasuredResponse, whole: Extended, reading: CurveReading, names: tuple[str, ...],
    read: Reader,
) -> None:
    """A gain that moves by less than a fault does: the whole curve stands as much higher or lower, and as a sweep goes
    up meanwhile one end of it as much against the other."""
    if response.wander_db:
        octave = np.log2(whole.frequency_hz)
        within = (octave - octave[0]) / (octave[-1] - octave[0])
        _widen_by(found, WANDERED * response.wander_db * (1 + within), whole, reading, names, read)
    if abs(response.wander_db) > WANDER_SAID_DB:
        found.notices.append(Notice(Fault.GAIN_CHANGED, None, {"db": response.wander_db, "wandered": 1.0}))


def _widen_by(
    found: Doubts, more_db: FloatArray, whole: Extended, reading: CurveReading, names: tuple[str, ...], read: Reader
) -> None:
    """By what a curve so much higher would read instead."""
    try:
        other = read(_more(whole, more_db))
    except MeasurementError:  # raised so far it leaves nothing to read
        return
    for name in names:
        one, two = getattr(reading, name), getattr(other, name)
        if one is not None and two is not None:
            found.wider[name] = max(found.wider.get(name, 0.0), WIDER * abs(two - one))


def _more(whole: Extended, more_db: FloatArray) -> Extended:
    exact = None if whole.exact is None else _raised(whole.exact, np.log2(whole.frequency_hz), more_db)
    return replace(whole, level_db=whole.level_db + more_db, exact=exact)


def _raised(
    exact: Callable[[FloatArray], FloatArray], octave: FloatArray, more_db: FloatArray
) -> Callable[[FloatArray], FloatArray]:
    return lambda octaves: np.asarray(exact(octaves) + np.interp(octaves, octave, more_db))


def _passband_outside(found: Doubts, response: MeasuredResponse, whole: Extended, reading: CurveReading) -> None:
    """A plateau that has not been reached at its end of the band, and that no network tells of."""
    level, size = response.level_db, response.level_db.size
    half = min(96, size // 4)
    ends = {Kind.LOWPASS: ("low",), Kind.HIGHPASS: ("high",), Kind.BANDPASS: ("low", "high"),
            Kind.FLAT: ("low", "high"), Kind.NOTCH: ("low", "high")}[reading.kind]
    edges = []
    for end in ends:
        added = whole.low_added if end == "low" else whole.high_added
        piece = level[:half] if end == "low" else level[-half:]
        near_top = float(np.abs(piece.mean() - level.max())) < 6.0
        leans = abs(float(piece[-1] - piece[0])) > LEANS_DB
        if reading.kind is Kind.BANDPASS:
            # A peak so near to an end may be that of another kind, whose plateau lies beyond.
            at = int(np.argmax(level))
            leans = (at if end == "low" else size - 1 - at) < 2 * half
        if not added and leans and (near_top or reading.kind in (Kind.LOWPASS, Kind.HIGHPASS)):
            edges.append(end)
    if edges and whole.kind is None and not _has_plateau(response):
        found.withdrawn |= set(BY_PASSBAND)
        found.notices.append(Notice(Fault.PASSBAND_OUTSIDE, None, {"end": edges[0]}))


def _has_plateau(response: MeasuredResponse) -> bool:
    """Whether an octave of it is level."""
    level = response.level_db
    per = 192
    if level.size < per + 2:
        return False
    windows = np.lib.stride_tricks.sliding_window_view(level, per)[::16]
    return bool((np.ptp(windows, axis=1) < LEANS_DB).any())
