"""What was undone or done again, in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from jiyuu.quantities import shown_hz

STORED = "stored: "  # ahead of the name of stored settings, among a filter's settings
CONTROLS = {
    "cutoff_hz": "cutoff", "resonance_percent": "resonance", "mode": "mode", "parameters": "circuit parameters",
    "components": "component values", "setup": "set-up", "trims": "trims", "resonance_taper": "taper of resonance",
    "response": "what the Response step draws", "self_oscillation": "the whistle's target",
    "tracking": "what Tracking asks", "blind": "the order of a blind series",
    "wish": "wishes", "ways": "what the ways between settings are called",
}


def act_line(kind: str, state: Mapping[str, Any]) -> str:
    """What an act has led to: 'cutoff 820 Hz', 'a finding left the logbook'. kind and state as a book keeps acts."""
    if kind == "set":
        values: Mapping[str, object] = state["values"]
        return ", ".join(_control(name, value) for name, value in values.items())
    if kind == "keep":
        return "a finding stands in the logbook" if state["kept"] else "a finding left the logbook"
    shown = bool(state["shown"])
    said = {
        "note": ("a note is back", "a note is gone"), "run": ("a run counts again", "a run is put aside"),
        "filter": ("the filter stands on the shelf", "the filter is off the shelf"),
    }
    return said[kind][0 if shown else 1]


def _control(name: str, value: Any) -> str:
    if name.startswith(STORED):
        return f"settings {'stored as' if value is not None else 'no longer stored as'} '{name.removeprefix(STORED)}'"
    title = CONTROLS.get(name, name)
    if value is None:
        return f"{title} as in the filter's file"
    if name == "cutoff_hz":
        return f"{title} {shown_hz(value)}"
    if name == "resonance_percent":
        return f"{title} {value:.4g} %"
    return f"{title} {value}" if isinstance(value, str) else f"{title} as before"
