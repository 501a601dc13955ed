"""All that a drawing says of being driven, early and then refined: what the Drive step shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.linear import complex_gain, growth_rate, onset
from jiyuu.circuits.network import BranchKind, Network
from jiyuu.errors import CircuitError, SignalError
from jiyuu.measurement.two_tones import Products
from jiyuu.patch.document import Curve
from jiyuu.prediction.drive import (
    BranchShares,
    DriveLadder,
    branch_shares,
    drive_ladder,
    two_tones_products,
    usual_two_tones,
)
from jiyuu.prediction.drive_feedback import FedBack, fed_back
from jiyuu.prediction.drive_map import PASSES, DriveMap, Stopping, drive_map, stopping_levels
from jiyuu.prediction.drive_places import BentBehind, bent_behind
from jiyuu.prediction.made_good import Cancelled, MadeGood, cancelled, made_good
from jiyuu.signals.source import RECORD_RATE_HZ, Source, mixed_record

LADDER_DB = np.arange(-40.0, 31.0, 2.0)
EARLY_DB, EARLY_STEPS = np.arange(-40.0, 31.0, 5.0), 256
STEPS = 1024  # a period: enough for curves that bend
MAP_SIDE, EARLY_SIDE = 24, 5
MAP_DB = (-40.0, 30.0)
EDGE_SHARE = 0.985  # of the onset's gain: nearer to it a small peak is a hundred times the passband
PAST = np.array([1.02, 1.06, 1.12, 1.2, 1.35, 1.5])  # gains re the onset at which a whistle is stopped
STOP_OCTAVES = np.arange(-4.0, 1.01, 0.5)  # tones that stop it, re the cutoff
BODY_OCTAVES = 3.0
MADE_GOOD_S, SETTLING_S = 1.5, 0.3
LARGER = 2.0  # headroom tried for the stage that bends first


@dataclass(frozen=True, slots=True)
class Asked:
    """What a study is of: nominal peak volts, the tone (Hz), the lamp's THD, feedback of the output and the curve it
    goes through, the curve behind, the share of dry signal."""

    level_v: float
    frequency_hz: float
    lamp_percent: float = 3.0
    feedback: float = 0.0
    through: Curve | None = None
    behind: BranchKind | None = None
    dry_share: float = 0.5


@dataclass(frozen=True, slots=True)
class FirstStage:
    """The branch that makes most of the distortion at the nominal level, and the 1 % level with so much more headroom
    there; volts None where 1 % is not reached."""

    branch: str
    share_percent: float
    thd_1_percent_v: float | None
    larger_thd_1_percent_v: float | None


@dataclass(frozen=True, slots=True, eq=False)
class DriveStudy:
    """What is known by now; None for what is not yet, or is not there. position_percent (p,): of the map's rows;
    stop_percent: of the control, where the whistle was stopped by the tone, with stop_v; over_range: by frequency, at
    the position that stands or at the end. why: in words, what cannot be said and why."""

    mode: str
    asked: Asked
    oscillates: bool
    ladder: DriveLadder | None = None
    nominal_percent: float | None = None
    shares: BranchShares | None = None
    first: FirstStage | None = None
    two_tones: Products | None = None
    map: DriveMap | None = None
    position_percent: FloatArray | None = None
    onset_percent: float | None = None
    stop_percent: FloatArray | None = None
    stop_v: FloatArray | None = None
    over_range: Stopping | None = None
    fed_back: FedBack | None = None
    behind: BentBehind | None = None
    made_good: MadeGood | None = None
    dry: Cancelled | None = None
    why: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Driven:
    document: Filter
    network: Network
    mode: str
    cutoff_hz: float
    gain: float

    def ladder(self, network: Network, asked: Asked, levels_db: FloatArray, rail_v: float,
               **how: int) -> DriveLadder:
        how = {"fewest": STEPS, **how}
        return drive_ladder(network, self.mode, cutoff_hz=self.cutoff_hz, gain=self.gain,
                            frequency_hz=asked.frequency_hz, levels_v=10 ** (levels_db / 20),
                            lamp_percent=asked.lamp_percent, rail_v=rail_v, **how)


def drive_studies(
    document: Filter, network: Network, mode: str, sources: Sequence[Source], asked: Asked, *, cutoff_hz: float,
    gain: float, drive: float, limit_v: float, full_scale_v: float,
) -> Iterator[DriveStudy]:
    """document: with its resonance control; drive: factor ahead of the filter. Raises JiyuuError where the source
    cannot be played."""
    it = _Driven(document, network, mode, cutoff_hz, gain)
    found = DriveStudy(mode, asked, growth_rate(network, cutoff_hz=cutoff_hz, gain=gain) >= 0,
                       onset_percent=_onset_percent(it))
    rail_v = document.tolerances.rail_v
    if not found.oscillates:
        found = replace(found, ladder=it.ladder(network, asked, EARLY_DB, rail_v, fewest=EARLY_STEPS))
        yield found
    found = _mapped(it, found, EARLY_SIDE, passes=0)
    yield found
    if not found.oscillates:
        nominal_db = 20 * np.log10(asked.level_v)
        levels_db = np.union1d(LADDER_DB, nominal_db)
        ladder = it.ladder(network, asked, levels_db, rail_v)
        nominal = ladder.levels[int(np.argmin(np.abs(levels_db - nominal_db)))]
        behind = None if asked.behind is None else bent_behind(nominal, ladder.small_gain_db, asked.behind)
        found = replace(found, ladder=ladder, nominal_percent=nominal.thd_percent, behind=behind)
        yield found
        dry = cancelled(network, mode, cutoff_hz=cutoff_hz, gain=gain, dry_share=asked.dry_share)
        found = replace(_first(it, found, ladder), dry=dry)
        yield found
    found = _mapped(it, found, MAP_SIDE, passes=PASSES)
    yield found
    good = made_good(network, mode, mixed_record(sources, duration_s=MADE_GOOD_S), RECORD_RATE_HZ, cutoff_hz=cutoff_hz,
                     gain=gain, drive=drive, rail_v=rail_v, limit_v=limit_v, full_scale_v=full_scale_v,
                     settling_s=SETTLING_S)
    found = replace(_stopped(it, found), made_good=good)
    yield found
    if not found.oscillates:
        found = replace(found, two_tones=_two_tones(it, asked))
        yield _fed_back(it, found) if asked.feedback else found


def _onset_percent(it: _Driven) -> float | None:
    edge = onset(it.network, cutoff_hz=it.cutoff_hz)
    percent = None if edge is None else it.document.percent_at(edge.gain)
    return percent if percent is not None and percent <= 100 else None


def _mapped(it: _Driven, found: DriveStudy, side: int, *, passes: int) -> DriveStudy:
    """Peak over level and the travel below the onset; bounded by the control's end where it never whistles."""
    edge = onset(it.network, cutoff_hz=it.cutoff_hz)
    full = it.document.gain_at(100.0)
    highest = full if edge is None else min(full, EDGE_SHARE * edge.gain)
    position = np.linspace(0.0, min(it.document.percent_at(highest), 100.0), side)
    gains = np.minimum(it.document.gains_at(position), highest)
    drawn = drive_map(it.network, it.mode, cutoff_hz=it.cutoff_hz, gains=gains,
                      level_v=10 ** (np.linspace(*MAP_DB, side) / 20), body_hz=_body_hz(it), passes=passes)
    return replace(found, map=drawn, position_percent=position)


def _body_hz(it: _Driven) -> float:
    """Well inside the passband: three octaves from the cutoff, on the side where more comes through."""
    sides = it.cutoff_hz * 2.0 ** np.array([-BODY_OCTAVES, BODY_OCTAVES])
    levels = np.abs(complex_gain(it.network, sides, cutoff_hz=it.cutoff_hz, gain=0.0, modes=[it.mode])[0])
    return float(sides[int(levels.argmax())])


def _first(it: _Driven, found: DriveStudy, ladder: DriveLadder) -> DriveStudy:
    asked = found.asked
    shares = branch_shares(it.network, it.mode, cutoff_hz=it.cutoff_hz, gain=it.gain, frequency_hz=asked.frequency_hz,
                           level_v=asked.level_v)
    if not shares.shares:
        return replace(found, shares=shares)
    most = shares.shares[0]
    branches = tuple(replace(branch, headroom_v=LARGER * branch.headroom_v) if branch.name == most.branch else branch
                     for branch in it.network.branches)
    larger = it.ladder(replace(it.network, branches=branches), asked, LADDER_DB, it.document.tolerances.rail_v)
    return replace(found, shares=shares, first=FirstStage(most.branch, most.share_percent, ladder.thd_1_percent_v,
                                                          larger.thd_1_percent_v))


def _two_tones(it: _Driven, asked: Asked) -> Products | None:
    try:
        tones = usual_two_tones(it.cutoff_hz, asked.level_v)
    except SignalError:
        return None
    return two_tones_products(it.network, it.mode, tones, cutoff_hz=it.cutoff_hz, gain=it.gain)


def _stopped(it: _Driven, found: DriveStudy) -> DriveStudy:
    """By the tone, over the travel past the onset; and by tones over the range, where the filter stands or at the
    end."""
    edge = onset(it.network, cutoff_hz=it.cutoff_hz)
    full = it.document.gain_at(100.0)
    if edge is None or full <= edge.gain * 1.005:
        return found
    own = it.gain if found.oscillates else full
    gains = np.union1d(edge.gain * PAST[edge.gain * PAST < full], [full, own])
    over = stopping_levels(it.network, cutoff_hz=it.cutoff_hz, gains=gains,
                           frequency_hz=np.full(gains.size, found.asked.frequency_hz))
    hertz = it.cutoff_hz * 2.0**STOP_OCTAVES
    hertz = hertz[(hertz > 10) & (hertz < 20_000)]
    ranged = stopping_levels(it.network, cutoff_hz=it.cutoff_hz, gains=np.full(hertz.size, own), frequency_hz=hertz)
    percent = np.array([it.document.percent_at(float(gain)) for gain in gains])
    return replace(found, stop_percent=np.minimum(percent, 100.0), stop_v=over.level_v, over_range=ranged)


def _fed_back(it: _Driven, found: DriveStudy) -> DriveStudy:
    asked = found.asked
    try:
        return replace(found, fed_back=fed_back(
            it.document, it.mode, cutoff_hz=it.cutoff_hz, gain=it.gain, amount=asked.feedback, through=asked.through,
            frequency_hz=asked.frequency_hz, level_v=asked.level_v))
    except CircuitError:
        return replace(found, why=("This output follows the input at once, so that feeding it back has no defined "
                                   "result; choose one behind a capacitor, such as a lowpass.",))
