"""What the drawing says of the whistle: pull, tone, balance point, what other parts in the loop would do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.circuits.filter_file import Filter
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError, JiyuuError, MeasurementError
from jiyuu.measurement.contexts import ConcertPitch
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.oscillation_findings import balance_findings
from jiyuu.measurement.whistle import BalancePoint, WhistleLevel, find_balance, whistle_level
from jiyuu.prediction.resonance import onset_percent_of
from jiyuu.quantities import shown_hz
from jiyuu.signals.source import PITCHED, Source

if TYPE_CHECKING:
    from jiyuu.prediction.whistle import LoopVariant, WhistleCurve
    from jiyuu.simulation.oscillation import Oscillation

POSITIONS = 9
BALANCE_S = 0.65


@dataclass(frozen=True, slots=True, eq=False)
class Whistle:
    """What the drawing says. percent: where the tone is looked at (the position set, or the end of the control when
    that lies below the onset). Later parts are None until they have been computed."""

    onset_percent: float
    onset_gain: float
    percent: float
    position_percent: FloatArray
    curve: WhistleCurve
    tone: Oscillation | None
    balance: BalancePoint | None = None
    variants: tuple[LoopVariant, ...] | None = None
    why_no_balance: str = ""


def begun(
    document: Filter, network: Network, mode: str, *, cutoff_hz: float, resonance_percent: float
) -> Whistle | None:
    """Onset, pull and the tone by the settled solution; None where the drawing never whistles."""
    from jiyuu.prediction.whistle import whistle_over_gain
    from jiyuu.simulation.oscillation import oscillation

    start = onset_percent_of(document, network, cutoff_hz)
    if start is None or start >= 99.9:
        return None
    places = start + (100.0 - start) * np.linspace(0.03, 1.0, POSITIONS)
    curve = whistle_over_gain(network, mode, cutoff_hz=cutoff_hz, gains=document.gains_at(places))
    percent = resonance_percent if resonance_percent > start + 0.3 else 100.0
    try:
        tone = oscillation(network, mode, cutoff_hz=cutoff_hz, gain=document.gain_at(percent))
    except CircuitError:
        tone = None
    return Whistle(start, document.gain_at(start), percent, places, curve, tone)


def balance(
    document: Filter, network: Network, mode: str, source: Source, found: Whistle, *, cutoff_hz: float, target_db: float
) -> tuple[BalancePoint | None, str]:
    """Where the tone sits as asked beside the source, by simulation; None and why where it does not."""
    from jiyuu.prediction.whistle import beside_source

    try:
        played = source.record(duration_s=BALANCE_S)
    except JiyuuError as error:
        return None, str(error)
    near_hz = cutoff_hz if found.tone is None else found.tone.frequency_hz
    pitch_hz = source.pitch_hz if source.kind in PITCHED else None

    def levels_at(percents: Sequence[float]) -> list[WhistleLevel]:
        outputs = beside_source(network, played, mode, cutoff_hz=cutoff_hz,
                                gains=document.gains_at(np.array(percents)))
        return [whistle_level(output, 48_000.0, pitch_hz=pitch_hz, near_hz=near_hz) for output in outputs]

    try:
        return find_balance(levels_at, onset_percent=found.onset_percent, target_db=target_db), ""
    except MeasurementError as error:
        return None, str(error)


def variants(
    document: Filter, network: Network, mode: str, found: Whistle, *, cutoff_hz: float
) -> tuple[LoopVariant, ...]:
    """Limiters and couplings of the loop at half and twice what they are."""
    from jiyuu.prediction.whistle import loop_variants

    values, make = document.entry.values(document.parameters), {}
    for name, title in (("feedback_headroom_v", "limiter in the loop"), ("stage_headroom_v", "stages"),
                        ("feedback_coupling_hz", "coupling capacitor")):
        if name not in values:
            continue
        scales = {"at half": 0.5 * values[name], "at twice": 2 * values[name]} if values[name] else {
            f"at {shown_hz(cutoff_hz / 8)}": cutoff_hz / 8}
        for said, value in scales.items():
            try:
                changed = {**document.parameters, name: value}
                document.entry.values(changed)
                make[f"{title} {said}"] = document.model_copy(update={"parameters": changed}).network()
            except CircuitError:
                continue
    return loop_variants(make, network, mode, cutoff_hz=cutoff_hz, gain=document.gain_at(found.percent))


def predicted(found: Whistle, *, source: str, concert_a_hz: float) -> list[Finding]:
    """The findings of the drawing."""
    said = [Finding("onset_percent", found.onset_percent, "%", measured=False)]
    tone = found.tone
    if tone is not None:
        said += [
            Finding("tone_hz", tone.frequency_hz, "Hz", context=ConcertPitch(concert_a_hz), measured=False),
            Finding("tone_v", tone.amplitude_peak_v, "V", measured=False),
            Finding("tone_thd_percent", tone.thd_percent, "%", measured=False),
            Finding("start_up_s", tone.start_up_s, "s", measured=False),
        ]
    if np.isfinite(found.curve.cents[-1]):
        pull = float(found.curve.cents[-1] - found.curve.cents[0])
        said.append(Finding("pitch_pull_cents", pull, "cents", measured=False))
    return said if found.balance is None else [*said, *balance_findings(found.balance, source, measured=False)]
