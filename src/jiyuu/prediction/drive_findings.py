"""The findings of the Drive step that a drawing gives."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jiyuu.measurement.context import Context
from jiyuu.measurement.contexts import (
    BehindTrim,
    CurveBehind,
    DrivenTone,
    DryMixed,
    FirstToBend,
    LampAt,
    OutputFedBack,
    PeakDriven,
    TonePair,
    WhistleStopped,
)
from jiyuu.measurement.finding import Finding
from jiyuu.prediction.drive import DriveLadder
from jiyuu.prediction.drive_study import DriveStudy

_Add = Callable[[str, float | None, str, Context], None]
SOFT_V = 0.02  # where a peak is still that of what is small, near enough


def study_findings(found: DriveStudy, *, position_percent: float, limit_v: float) -> tuple[Finding, ...]:
    """Everything that is known by now; position_percent: of the resonance control as it stands."""
    made: list[Finding] = []

    def add(quantity: str, value: float | None, unit: str, context: Context) -> None:
        if value is not None and np.isfinite(value):
            made.append(Finding(quantity, float(value), unit, context=context, measured=False))

    asked = found.asked
    if found.ladder is not None and found.nominal_percent is not None:
        _ladder(found.ladder, found, add)
    if found.first is not None:
        first = found.first
        add("first_stage_percent", first.share_percent, "%", FirstToBend(
            first.branch, asked.level_v, first.thd_1_percent_v, first.larger_thd_1_percent_v))
    if found.map is not None and found.position_percent is not None and not found.oscillates:
        _peak(found, position_percent, add)
    if found.over_range is not None and found.stop_v is not None and found.stop_percent is not None:
        _stopped(found, position_percent, add)
    if found.fed_back is not None:
        back = found.fed_back
        add("fed_back_amount", back.amount, "", OutputFedBack(
            back.amount, asked.level_v, back.rings_amount, back.rings_hz, back.thd_percent, back.thd_without,
            back.settles_v))
    if found.behind is not None and found.behind.headroom_v is not None:
        harmonic, apart = found.behind.widest
        add("bent_behind_db", apart, "dB", CurveBehind(found.behind.kind, found.behind.thd_percent,
                                                       found.behind.headroom_v, harmonic))
    if found.made_good is not None:
        good = found.made_good
        add("drive_trim_db", good.trim_db, "dB", BehindTrim(good.peak_v, good.left_db, limit_v))
    if found.dry is not None:
        add("dry_cancelled_db", found.dry.depth_db, "dB", DryMixed(100 * asked.dry_share, found.dry.frequency_hz))
    if found.two_tones is not None:
        two = found.two_tones
        pair = TonePair(two.tones.low_hz, two.tones.high_hz, two.tones.level_v)
        add("difference_2_percent", two.second_percent.value, "%", pair)
        add("difference_3_percent", two.third_percent.value, "%", pair)
    return tuple(made)


def _ladder(ladder: DriveLadder, found: DriveStudy, add: _Add) -> None:
    asked = found.asked
    level = min(ladder.levels, key=lambda one: abs(np.log(one.input_peak_v / asked.level_v)))
    tone = DrivenTone(level.input_peak_v, ladder.frequency_hz, level.even_percent, level.odd_percent, level.gain_db)
    add("driven_thd_percent", level.thd_percent, "%", tone)
    add("compression_1db_v", ladder.compression_1db_v, "V", tone)
    add("thd_1_percent_v", ladder.thd_1_percent_v, "V", tone)
    add("lamp_v", ladder.lamp_v, "V", LampAt(asked.lamp_percent))


def _peak(found: DriveStudy, position_percent: float, add: _Add) -> None:
    """From a soft level to the nominal one, at the row of the map next to where the control stands."""
    drawn, positions = found.map, found.position_percent
    assert drawn is not None
    assert positions is not None
    row = int(np.argmin(np.abs(positions - position_percent)))
    soft, loud = (int(np.argmin(np.abs(np.log(drawn.level_v / volts)))) for volts in (SOFT_V, found.asked.level_v))
    change = float(drawn.over_body_db[row, loud] - drawn.over_body_db[row, soft])
    cents = float(1200 * np.log2(drawn.peak_hz[row, loud] / drawn.peak_hz[row, soft]))
    if np.isfinite(cents):
        add("peak_driven_db", change, "dB", PeakDriven(float(drawn.level_v[soft]), float(drawn.level_v[loud]), cents))


def _stopped(found: DriveStudy, position_percent: float, add: _Add) -> None:
    over, percents, volts = found.over_range, found.stop_percent, found.stop_v
    assert over is not None
    assert percents is not None
    assert volts is not None
    there = np.isfinite(over.level_v)
    if not there.any():
        return
    at = position_percent if found.oscillates else 100.0
    easiest = int(np.nanargmin(over.level_v))
    place = int(np.argmin(np.abs(percents - at)))  # where it stands was looked at
    add("whistle_stopped_v", float(volts[place]), "V", WhistleStopped(
        at, found.asked.frequency_hz, float(over.frequency_hz[easiest]), float(over.level_v[easiest])))
