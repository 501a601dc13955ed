"""What a filter is wished to be: quantities with targets and tolerances, and the parts it is to be built of."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.character.drawn import bass_kept_db, grit_percent, reading_of
from jiyuu.character.subject import Subject
from jiyuu.circuits.filter_file import document_text, refuse_constant, without_duplicates
from jiyuu.errors import CircuitError
from jiyuu.measurement.findings import READ_FROM_CURVE
from jiyuu.whole_file import write_text

# Of the response, as it is measured; those in hertz move with the cutoff.
OF_CURVE = ("passband_db", "cutoff_3db_hz", "low_3db_hz", "high_3db_hz", "peak_hz", "peak_db", "q",
            "slope_db_per_octave", "low_slope_db_per_octave", "first_octave_drop_db", "notch_hz", "notch_depth_db",
            "notch_width_octaves")
Finite = Annotated[float, Field(allow_inf_nan=False)]


MORE: Mapping[str, Callable[[Subject], float]] = {"bass_kept": bass_kept_db, "grit": grit_percent}
QUANTITIES = (*OF_CURVE, *MORE)
UNITS: Mapping[str, str] = {**dict(READ_FROM_CURVE), "notch_width_octaves": "octaves", "bass_kept": "dB", "grit": "%"}


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Wish(_Strict):
    """One quantity: its target and how far it may be off, both in its unit; how much that counts."""

    quantity: str
    target: Finite
    tolerance: Annotated[Finite, Field(gt=0)]
    weight: Annotated[Finite, Field(gt=0, le=1e6)] = 1.0

    @model_validator(mode="after")
    def _is_known(self) -> Wish:
        if self.quantity not in QUANTITIES:
            raise ValueError(f"'{self.quantity}' is no quantity of a response; give one of: {', '.join(QUANTITIES)}")
        if self.quantity.endswith("_hz") and not 1 <= self.target <= 40_000:
            raise ValueError(f"{self.quantity} of {self.target:g} Hz is out of range; give 1 Hz to 40 kHz")
        return self


class Parts(_Strict):
    """series of preferred values; one standard deviation of a capacitor, per cent."""

    series: Literal["E6", "E12", "E24", "E96"] = "E12"
    capacitor_percent: Annotated[Finite, Field(ge=0, le=30)] = 1.0


class Wishes(_Strict):
    """A whole file, *.wish.json."""

    format: Literal["jiyuu-wish"] = "jiyuu-wish"
    version: Literal[1] = 1
    wishes: Annotated[tuple[Wish, ...], Field(min_length=1, max_length=20)]
    parts: Parts = Parts()

    @model_validator(mode="after")
    def _once_each(self) -> Wishes:
        names = [wish.quantity for wish in self.wishes]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"'{twice}' is wished twice; keep one")
        return self


def read_wishes(path: Path) -> Wishes:
    """Raises CircuitError with the place and what to do."""
    text = document_text(path, "a wish file", "give a file with 'wishes'")
    try:
        document = json.loads(text, object_pairs_hook=without_duplicates, parse_constant=refuse_constant)
    except json.JSONDecodeError as error:
        raise CircuitError(f"{path} is not valid JSON: {error.msg} at line {error.lineno}; mend it there.") from error
    except (ValueError, RecursionError) as error:
        raise CircuitError(f"{path}: {error}.") from error
    return wishes_of(document, source=str(path))


def wishes_of(document: object, *, source: str) -> Wishes:
    """From what a file or a book holds. Raises CircuitError with the place and what to do."""
    try:
        return Wishes.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"]) or "the wish"
        message = first["msg"].removeprefix("Value error, ")
        if first["type"] == "extra_forbidden":
            message = "this key is not known; remove it or correct its spelling"
        raise CircuitError(f"{source}: {place}: {message}.") from error


def write_wishes(path: Path, wishes: Wishes) -> None:
    """As read_wishes reads it, whole or not at all."""
    write_text(path, json.dumps(wishes.model_dump(mode="json"), indent=2) + "\n")


def values_of(subject: Subject, names: tuple[str, ...], *, roughly: bool = False) -> FloatArray:
    """(q,) what a filter has of the quantities named; NaN where it has none."""
    reading = reading_of(subject, roughly=roughly)
    found = np.full(len(names), np.nan)
    if reading is None:
        return found
    for i, name in enumerate(names):
        if name in OF_CURVE:
            value: object = getattr(reading, name)
            found[i] = np.nan if value is None else value
        elif not roughly:
            found[i] = MORE[name](subject)
    return found
