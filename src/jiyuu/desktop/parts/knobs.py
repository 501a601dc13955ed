"""Typed values: the two knobs every step shows, and fields made from what a model says of them."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from PyQt6.QtWidgets import QLineEdit

from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.errors import JiyuuError
from jiyuu.field_words import step_of, unit_of
from jiyuu.quantities import parse_frequency, parse_number, shown_hz

SUFFIXES = {"s": "s", "hz": "Hz", "v": "V", "percent": "%", "db": "dB"}
FINE_S = 0.01  # that an arrow moves a time by, where its model says nothing
Refused = Callable[[str], object]


def cutoff_field(entered: Callable[[float], object], reset: Callable[[], object], refused: Refused) -> TypedValue:
    """Typed or stepped by semitones; double-click goes back to the filter's file."""
    field = _frequency("Cutoff")
    field.setToolTip("Pole frequency of the tuned stages: 1k2, 440, A4 or 0.5 V; arrows move a semitone.")
    return _connected(field, entered, reset, refused)


def resonance_field(entered: Callable[[float], object], reset: Callable[[], object], refused: Refused) -> TypedValue:
    """Per cent of the control's travel."""
    field = TypedValue(
        "Resonance", parse=parse_percent, show=lambda value: f"{value:.4g} %",
        stepped=lambda value, way, fine: value + way * (0.1 if fine else 1.0),
    )
    field.setToolTip("Per cent of the control's travel. Double-click goes back to the filter's file.")
    return _connected(field, entered, reset, refused)


def parse_percent(text: str) -> float:
    """0 to 100, with or without the sign. Raises JiyuuError."""
    value, unit = parse_number(text)
    if unit not in ("", "%") or not 0 <= value <= 100:
        raise JiyuuError(f"'{text}' is not a position of the control; type 0 to 100 %.")
    return value


def title_of(name: str, info: FieldInfo) -> str:
    """As its model says, else by its name without the unit."""
    words = name.split("_")
    return info.title or " ".join(words[:-1] if len(words) > 1 and words[-1] in SUFFIXES else words).capitalize()


def model_field(
    model: type[BaseModel], name: str, entered: Callable[[float], object], refused: Refused, *, title: str = "",
    default: float | None = None,
) -> TypedValue:
    """A field of a model: title, unit, what an arrow moves it by and the value that double-click goes back to are the
    model's. title: with something more in it, such as a number; default: where the model has none."""
    info = model.model_fields[name]
    back = info.default if isinstance(info.default, int | float) else default if default is not None else 0.0
    unit = unit_of(info) or SUFFIXES.get(name.rpartition("_")[2], "")
    step = FINE_S if unit == "s" and step_of(info) == 1.0 else step_of(info)
    called = title or title_of(name, info)
    field = _frequency(called) if unit == "Hz" else number_field(called, unit, step, example=back)
    if info.description:
        field.setToolTip(info.description)
    nullable = info.default is None
    return _connected(field, entered, lambda: entered(None if nullable else back), refused)  # type: ignore[arg-type]


def scale_field(model: type[BaseModel], example: str, entered: Callable[[str], object]) -> QLineEdit:
    """Notes of a scale, typed and entered: the `scale` of a model says what for."""
    info, field = model.model_fields["scale"], QLineEdit()
    field.setAccessibleName(title_of("scale", info))
    field.setPlaceholderText(example)
    field.setMaxLength(2000)
    field.setToolTip(f"{info.description or ''} For example {example}, or {example.split()[0]} 5/4 702c.".strip())
    field.returnPressed.connect(lambda: entered(field.text()))
    return field


def number_field(title: str, unit: str, step: float, *, example: float = 1.0) -> TypedValue:
    """A typed number with a unit; arrows move it by a step, with Shift by a tenth of one."""

    def parse(text: str) -> float:
        value, given = parse_number(text)
        if given not in ("", unit):
            raise JiyuuError(f"'{text}' is not in {unit or 'plain numbers'}; type for example {example:g} {unit}.")
        return value

    return TypedValue(
        title, parse=parse, show=lambda value: f"{value:.4g} {unit}".strip().replace("-", "−"),
        stepped=lambda value, way, fine: round(value + way * step * (0.1 if fine else 1.0), 6),
    )


def _frequency(title: str) -> TypedValue:
    """Hz, a note or volts; arrows move a semitone."""
    return TypedValue(
        title, parse=parse_frequency, show=shown_hz,
        stepped=lambda value, way, fine: value * 2 ** (way * (0.1 if fine else 1.0) / 12),
    )


def _connected(
    field: TypedValue, entered: Callable[[float], object], reset: Callable[[], object], refused: Refused
) -> TypedValue:
    field.entered.connect(entered)
    field.reset.connect(reset)
    field.refused.connect(refused)
    return field


def by_name(entered: Callable[..., object], name: str) -> Callable[[float], None]:
    """What takes a value by name, for a field that gives only the value."""
    def enter(value: float) -> None:
        entered(**{name: value})
    return enter
