"""Typed values: the two knobs every step shows, and fields of numbers and frequencies."""

from __future__ import annotations

from collections.abc import Callable
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


def number_field(
    name: str, unit: str, step: float, presenter: Any, entered: Callable[[float], object], *,
    reset: float, tip: str = "",
) -> TypedValue:
    """A typed number with a unit; arrows move it by a step, with Shift by a tenth of one."""

    def parse(text: str) -> float:
        value, given = parse_number(text)
        if given not in ("", unit):
            raise JiyuuError(f"'{text}' is not in {unit}; type for example {reset:g} {unit}.")
        return value

    field = TypedValue(
        name, parse=parse, show=lambda value: f"{value:.4g} {unit}".replace("-", "−"),
        stepped=lambda value, way, fine: round(value + way * step * (0.1 if fine else 1.0), 6),
    )
    if tip:
        field.setToolTip(tip)
    field.entered.connect(entered)
    field.reset.connect(lambda: entered(reset))
    field.refused.connect(lambda text: presenter.message.emit(text, True))
    return field


def frequency_field(name: str, presenter: Any, entered: Callable[[float], object], *, reset: float, tip: str
                    ) -> TypedValue:
    """Hz, a note or volts; arrows move a semitone."""
    field = TypedValue(
        name, parse=parse_frequency, show=shown_hz,
        stepped=lambda value, way, fine: value * 2 ** (way * (0.1 if fine else 1.0) / 12),
    )
    field.setToolTip(tip)
    field.entered.connect(entered)
    field.reset.connect(lambda: entered(reset))
    field.refused.connect(lambda text: presenter.message.emit(text, True))
    return field
