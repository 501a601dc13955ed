"""The findings of the Self-oscillation step."""

from __future__ import annotations

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.measurement.contexts import Beside, ConcertPitch
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.tone import MeasuredTone
from jiyuu.measurement.uncertain import Uncertain
from jiyuu.measurement.whistle import BalancePoint

JUMP_DB = 0.5  # that far from the level asked for, the balance point lies across a jump


def oscillation_findings(
    onset_percent: Uncertain, tone: MeasuredTone, start_up_s: float | None, pull_cents: FloatArray, range_v: FloatArray,
    balance: BalancePoint | None, *, source: str, concert_a_hz: float,
) -> list[Finding]:
    """In the order in which one asks for them; what was not measured is left out."""
    pitch = ConcertPitch(concert_a_hz)
    found = [
        Finding("onset_percent", onset_percent.value, "%", onset_percent.uncertainty),
        Finding("tone_hz", tone.frequency_hz.value, "Hz", tone.frequency_hz.uncertainty, context=pitch),
        Finding("tone_v", tone.amplitude_peak_v, "V"),
        Finding("tone_thd_percent", tone.thd_percent, "%"),
    ]
    if start_up_s is not None:
        found.append(Finding("start_up_s", start_up_s, "s"))
    if pull_cents.size > 1:
        found.append(Finding("pitch_pull_cents", float(pull_cents[-1]), "cents"))
    if range_v.size > 1:
        found.append(Finding("tone_flatness_db", float(20 * np.log10(range_v.max() / range_v.min())), "dB"))
    if balance is not None:
        found += balance_findings(balance, source)
    return found


def balance_findings(balance: BalancePoint, source: str, *, measured: bool = True) -> list[Finding]:
    """Where the whistle sits beside the source, and what it does at the end of the control."""
    found = []
    if balance.percent is not None:
        jumps = abs((balance.level_db or 0.0) - balance.target_db) > JUMP_DB
        beside = Beside(source, balance.target_db, balance.level_db, balance.percent_per_db, jumps, balance.caught)
        found.append(Finding("balance_percent", balance.percent, "%", context=beside, measured=measured))
    end = Beside(source, balance.target_db, caught_percent=balance.caught_percent)
    found.append(Finding("whistle_at_end_db", balance.full_db, "dB", context=end, measured=measured))
    return found
