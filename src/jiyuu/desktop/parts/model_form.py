"""A form made from what a model says of its fields: typed numbers, and boxes for what is chosen from a list."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from enum import StrEnum
from functools import partial
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from PyQt6.QtWidgets import QComboBox, QFormLayout

from jiyuu.desktop.parts.frame import form, narrow
from jiyuu.desktop.parts.knobs import Refused, by_name, model_field, title_of
from jiyuu.desktop.parts.typed_value import TypedValue


class ModelForm:
    """rows: the form, to be placed. entered takes name and value as keyword. choices: words of fields that the model
    does not list itself; before: what stands ahead of every title for whoever cannot see where it belongs."""

    def __init__(
        self, model: type[BaseModel], names: Sequence[str], entered: Callable[..., object], refused: Refused, *,
        choices: Mapping[str, Sequence[str]] | None = None, before: str = "",
    ) -> None:
        self.rows: QFormLayout = form()
        self.numbers: dict[str, TypedValue] = {}
        self.choices: dict[str, QComboBox] = {}
        self._values: dict[str, list[Any]] = {}
        for name in names:
            info = model.model_fields[name]
            title = f"{before}{title_of(name, info)}"
            values = list((choices or {}).get(name, ())) or _listed(info)
            if values:
                self._values[name] = values
                self.choices[name] = self._box(title, info, values, partial(self._chosen, name, entered))
            else:
                self.numbers[name] = model_field(model, name, by_name(entered, name), refused, title=title)
            self.rows.addRow(title.removeprefix(before), self.field(name))

    def field(self, name: str) -> TypedValue | QComboBox:
        return self.numbers[name] if name in self.numbers else self.choices[name]

    @staticmethod
    def _box(title: str, info: FieldInfo, values: Sequence[Any], chosen: Callable[[str], object]) -> QComboBox:
        box = narrow(QComboBox())
        box.setAccessibleName(title)
        box.setToolTip(info.description or "")
        box.addItems([_word(value) for value in values])
        box.textActivated.connect(chosen)
        return box

    def _chosen(self, name: str, entered: Callable[..., object], text: str) -> None:
        meant = {_word(value): value for value in self._values[name]}
        entered(**{name: meant.get(text, text)})  # a box may take other words than it lists

    def show(self, values: BaseModel | Mapping[str, Any]) -> None:
        """What stands in every field."""
        for name, field in self.numbers.items():
            field.set_value(values[name] if isinstance(values, Mapping) else getattr(values, name))
        for name, box in self.choices.items():
            box.setCurrentText(_word(values[name] if isinstance(values, Mapping) else getattr(values, name)))


def _listed(info: FieldInfo) -> list[object]:
    """What a field may be, where it is one of few words."""
    kind = info.annotation
    if isinstance(kind, type) and issubclass(kind, StrEnum):
        return list(kind)
    return list(get_args(kind)) if get_origin(kind) is Literal else []


def _word(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return {1: "as it is", -1: "inverted"}.get(value, str(value))
    return str(value).replace("_", " ")
