"""The two knobs every step shows: cutoff and resonance as typed values."""

from __future__ import annotations

from typing import Any

from jiyuu.desktop.bench.typed_value import TypedValue
from jiyuu.errors import JiyuuError
from jiyuu.quantities import parse_frequency, parse_number, shown_hz


def cutoff_field(presenter: Any) -> TypedValue:
    """Typed or stepped by semitones; double-click goes back to the filter's file."""
    field = TypedValue(
        "Cutoff", parse=parse_frequency, show=shown_hz,
        stepped=lambda value, way, fine: value * 2 ** (way * (0.1 if fine else 1.0) / 12),
    )
    field.setToolTip("Pole frequency of the tuned stages: 1k2, 440, A4 or 0.5 V; arrows move a semitone.")
    field.entered.connect(presenter.set_cutoff)
    field.reset.connect(lambda: presenter.reset("cutoff_hz"))
    field.refused.connect(lambda text: presenter.message.emit(text, True))
    return field


def resonance_field(presenter: Any) -> TypedValue:
    """Per cent of the control's travel."""
    field = TypedValue(
        "Resonance", parse=parse_percent, show=lambda value: f"{value:.4g} %",
        stepped=lambda value, way, fine: value + way * (0.1 if fine else 1.0),
    )
    field.setToolTip("Per cent of the control's travel. Double-click goes back to the filter's file.")
    field.entered.connect(presenter.set_resonance)
    field.reset.connect(lambda: presenter.reset("resonance_percent"))
    field.refused.connect(lambda text: presenter.message.emit(text, True))
    return field


def parse_percent(text: str) -> float:
    """0 to 100, with or without the sign. Raises JiyuuError."""
    value, unit = parse_number(text)
    if unit not in ("", "%") or not 0 <= value <= 100:
        raise JiyuuError(f"'{text}' is not a position of the control; type 0 to 100 %.")
    return value
