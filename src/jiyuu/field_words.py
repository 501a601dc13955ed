"""What a model says of a number that a person types: its range, unit, title, tip and the step of an arrow key."""

from __future__ import annotations

from pydantic import Field
from pydantic.fields import FieldInfo


def asked(
    title: str, *, unit: str = "", tip: str = "", step: float = 1.0, low: float | None = None,
    high: float | None = None, above: float | None = None,
) -> object:
    """Description of a number a person types: its range (both ends belong; above: the end does not), unit, what an
    arrow key moves it by. To be used in Annotated, with the default beside it."""
    return Field(ge=low, le=high, gt=above, allow_inf_nan=False, title=title, description=tip,
                 json_schema_extra={"unit": unit, "step": step})


def unit_of(field: FieldInfo) -> str:
    extra = field.json_schema_extra
    return str(extra.get("unit", "")) if isinstance(extra, dict) else ""


def step_of(field: FieldInfo) -> float:
    extra = field.json_schema_extra
    step = extra.get("step", 1.0) if isinstance(extra, dict) else 1.0
    return float(step) if isinstance(step, int | float) else 1.0


def bounds_of(field: FieldInfo) -> tuple[float | None, float | None]:
    """(lowest, highest) of a number; None where there is no end."""
    low = high = None
    for rule in field.metadata:
        low = getattr(rule, "ge", getattr(rule, "gt", None)) if low is None else low
        high = getattr(rule, "le", getattr(rule, "lt", None)) if high is None else high
    return low, high
