"""What a step is asked, as a model: default, range, unit, title and tip of every field are stated once, here."""

from __future__ import annotations

from typing import Self

from pydantic import BaseModel, ConfigDict, ValidationError
from pydantic.fields import FieldInfo

from jiyuu.errors import CircuitError
from jiyuu.field_words import bounds_of, unit_of


class Setting(BaseModel):
    """Base of all settings: frozen, unknown names refused."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    def changed(self, **changes: object) -> Self:
        """With some of it changed. Raises CircuitError naming the field, its range and an example."""
        try:
            return type(self).model_validate({**self.model_dump(), **changes})
        except ValidationError as error:
            raise CircuitError(said(type(self), error)) from error


def said(model: type[BaseModel], error: ValidationError) -> str:
    """The first thing wrong, in words: which field, what was given, its range with the unit, what to type."""
    first = error.errors()[0]
    field, names = None, [str(part) for part in first["loc"]]
    owner: type[BaseModel] | None = model
    for name in first["loc"]:
        if owner is not None and isinstance(name, str) and name in owner.model_fields:
            field = owner.model_fields[name]
            owner = _model_in(field)
    message = first["msg"].removeprefix("Value error, ")
    if field is None:
        return f"{message[:1].upper()}{message[1:]}."
    title, unit = field.title or names[-1], unit_of(field)
    place = next((f" {int(part) + 1}" for part in first["loc"] if isinstance(part, int)), "")
    low, high = bounds_of(field)
    if first["type"] in ("greater_than_equal", "less_than_equal", "greater_than", "less_than", "finite_number"):
        ends = f"{_number(low)} to {_number(high)}" if low is not None and high is not None else \
            f"more than {_number(low)}" if low is not None else f"at most {_number(high)}"
        example = field.default if isinstance(field.default, int | float) else low
        given = f" of {_number(first['input'])}" if isinstance(first.get("input"), int | float) else ""
        return (f"{title}{place}{given} {unit} is out of range; type {ends} {unit}, for example "
                f"{_number(example)} {unit}.").replace("  ", " ").replace(" ,", ",").replace(" .", ".")
    return f"{title}{place}: {message[:1].lower()}{message[1:]}."


def _model_in(field: FieldInfo) -> type[BaseModel] | None:
    candidates = [field.annotation, *getattr(field.annotation, "__args__", ())]
    return next((c for c in candidates if isinstance(c, type) and issubclass(c, BaseModel)), None)


def _number(value: object) -> str:
    return f"{value:.4g}".replace("-", "−") if isinstance(value, int | float) else str(value)
