"""Why a run is out of date, in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from jiyuu.quantities import shown_hz, signed

# What each part of a filter as it stands is called, and how it is shown.
SHOWN: dict[str, tuple[str, Callable[[Any], str]]] = {
    "standing_hz": ("cutoff", shown_hz),
    "cutoff_hz": ("cutoff", shown_hz),
    "resonance_percent": ("resonance", lambda value: f"{value:.3g} %"),
    "drive_db": ("drive", lambda value: f"{signed(value)} dB"),
    "next_limit_v": ("the limit at its output", lambda value: f"±{value:g} V"),
    "mode": ("mode", str),
    "setting.temperature_c": ("it", lambda value: f"{value:.0f} °C"),
}
SLACK = {"setting.temperature_c": 1.5, "standing_hz": 1e-9}  # moves that do not count


def why_stale(depends_on: Sequence[str], made: Mapping[str, Any], now: Mapping[str, Any]) -> str | None:
    """made, now: a filter as it stood and as it stands, with what the step was asked under 'setting.…'. None when
    nothing that counts has moved; what an older version did not record does not count."""
    reasons: list[str] = []
    for name in depends_on:
        unsaid: object = {"standing_hz": made.get("cutoff_hz"), "path": []}.get(name)  # by an older version
        was, stands = made.get(name, unsaid), now.get(name)
        if was is None or stands is None or _same(name, was, stands):
            continue
        if name == "control":
            # Turned down there is nothing that the control could have changed.
            if not ("resonance_percent" in depends_on and made.get("resonance_percent") == 0):
                reasons.append("the resonance control has another taper or end")
        elif name == "trims":
            turned = [trim for trim, turns in was.items() if stands.get(trim) != turns]
            reasons.append(f"{', '.join(turned)} trim turned since")
        elif name == "parameters":
            reasons += _parameters(was, stands)
        elif name == "path":
            reasons.append("the signal path is another")
        elif name == "sources":
            reasons.append("another source is played")
        else:
            title, shown = SHOWN.get(name, (name.rpartition(".")[2].replace("_", " "), str))
            reasons.append(f"{title} was {shown(was)}, is {shown(stands)}")
    return "; ".join(reasons) or None


def _same(name: str, was: object, stands: object) -> bool:
    if isinstance(was, float | int) and isinstance(stands, float | int):
        return abs(was - stands) <= SLACK.get(name, 0.0) * (1.0 if name.startswith("setting") else abs(was))
    return bool(was == stands)


def _parameters(was: Mapping[str, float], stands: Mapping[str, float]) -> list[str]:
    said = []
    for name in sorted({*was, *stands}):
        if was.get(name) != stands.get(name):
            before, after = (f"{v:g}" if v is not None else "the drawing's" for v in (was.get(name), stands.get(name)))
            said.append(f"{name} was {before}, is {after}")
    return said
