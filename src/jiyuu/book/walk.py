"""The walk: ten steps in working order, and where each stands for a filter."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from jiyuu.book.store import Book
from jiyuu.measurement.finding import Verdict
from jiyuu.quantities import shown_hz

STEPS = (
    "Setup", "Response", "Resonance", "Self-oscillation", "Tracking", "Drive", "Modulation", "Combination",
    "Comparison", "Logbook",
)
BUILT = ("Setup", "Response", "Resonance", "Self-oscillation", "Tracking", "Logbook")
OVER_RESONANCE = ("Resonance", "Self-oscillation", "Tracking")  # not out of date with one position of the control


class StepState(StrEnum):
    OPEN = "open"
    DONE = "done"
    STALE = "out of date"
    OUTSIDE = "out of tolerance"


def moved_since(settings: Mapping[str, Any], made_with: Mapping[str, Any]) -> str | None:
    """Why a run is out of date, in words; None when its settings still hold."""
    reasons = []
    if settings["cutoff_hz"] != made_with.get("cutoff_hz", settings["cutoff_hz"]):
        reasons.append(f"cutoff was {shown_hz(made_with['cutoff_hz'])}, is {shown_hz(settings['cutoff_hz'])}")
    if settings["resonance_percent"] != made_with.get("resonance_percent", settings["resonance_percent"]):
        reasons.append(
            f"resonance was {made_with['resonance_percent']:.3g} %, is {settings['resonance_percent']:.3g} %"
        )
    control = made_with.get("control")
    # Turned down there is nothing that the control could have changed.
    if control and settings.get("control", control) != control and made_with.get("resonance_percent") != 0:
        reasons.append("the resonance control has another taper or end")
    trims = made_with.get("trims")
    if trims and settings.get("trims", trims) != trims:
        turned = [name for name, turns in trims.items() if settings["trims"].get(name) != turns]
        reasons.append(f"{', '.join(turned)} trim turned since")
    then, now = made_with.get("parameters"), settings.get("parameters")
    if then is not None and now is not None:
        for name in sorted({*then, *now}):
            if then.get(name) != now.get(name):
                was, has = (f"{v:g}" if v is not None else "the drawing's" for v in (then.get(name), now.get(name)))
                reasons.append(f"{name} was {was}, is {has}")
    return "; ".join(reasons) or None


def step_state(book: Book, filter_id: int, step: str, settings: Mapping[str, Any]) -> StepState:
    """State of one step from its newest run: stale before out of tolerance, since a stale verdict judges the past."""
    if step == "Logbook":
        return StepState.OPEN
    runs = book.runs(filter_id, step)
    if not runs:
        return StepState.OPEN
    stands = runs[0].settings.get("resonance_percent") if step in OVER_RESONANCE else settings["resonance_percent"]
    now = {**settings, "resonance_percent": stands}
    if moved_since(now, runs[0].settings):
        return StepState.STALE
    verdicts = {logged.finding.verdict for logged in book.findings_of_run(runs[0].id)}
    return StepState.OUTSIDE if Verdict.OUTSIDE in verdicts else StepState.DONE
