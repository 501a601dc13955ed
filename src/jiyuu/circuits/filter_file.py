"""A filter as a file: *.filter.json, read and written through one model; docs/filter.schema.json is made from it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from jiyuu.arrays import FloatArray
from jiyuu.circuits.catalogue import circuit
from jiyuu.circuits.circuit import CUTOFF_MAXIMUM_HZ, CUTOFF_MINIMUM_HZ, Circuit
from jiyuu.circuits.components import Components, cutoff_hz, full_gain, stage_headroom_v
from jiyuu.circuits.control import Taper, taper_share, taper_travel
from jiyuu.circuits.network import Network
from jiyuu.errors import CircuitError
from jiyuu.whole_file import write_text

LARGEST_FILE = 1 << 20
Finite = Annotated[float, Field(allow_inf_nan=False)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Tolerances(_Strict):
    """What a build of the filter may differ by: one standard deviation each, unless said otherwise."""

    capacitor_percent: Annotated[Finite, Field(ge=0, le=50)] = 1.0
    offset_mv: Annotated[Finite, Field(ge=0, le=1000)] = 1.0
    cutoff_offset_cents: Annotated[Finite, Field(ge=0, le=2400)] = 15.0
    cutoff_scale_percent: Annotated[Finite, Field(ge=0, le=20)] = 0.5
    onset_travel_percent: Annotated[Finite, Field(ge=0, le=20)] = 4.0
    gain_db: Annotated[Finite, Field(ge=0, le=6)] = 0.2
    droop_cents: Annotated[Finite, Field(ge=0, le=600, description="flat at 10 kHz by bulk resistance")] = 3.0
    leak_cents: Annotated[Finite, Field(ge=0, le=600, description="sharp at 20 Hz by leakage")] = 2.0
    slew_ms: Annotated[Finite, Field(ge=0, le=1000, description="time constant of the control path")] = 0.2
    feedthrough_mv: Annotated[Finite, Field(ge=0, le=1000, description="thump for a volt of control step")] = 1.0
    noise_uv: Annotated[Finite, Field(ge=0, le=1e6, description="RMS noise at the output, microvolts")] = 60.0
    temperature_cents_per_c: Annotated[Finite, Field(ge=0, le=100, description="cutoff per °C away from 25 °C")] = 1.5
    drift_cents_per_min: Annotated[Finite, Field(ge=0, le=100, description="cutoff per minute under power")] = 0.3
    rail_v: Annotated[Finite, Field(gt=0, le=100, description="where the output clips, volts")] = 10.5
    inverts: bool = False


class Filter(_Strict):
    """One filter: a circuit, its parameters and where its panel controls stand."""

    format: Literal["jiyuu-filter"] = "jiyuu-filter"
    version: Literal[1] = 1
    name: Annotated[str, Field(min_length=1, max_length=120)]
    circuit: str
    parameters: dict[str, Finite] = {}
    mode: str | None = None
    cutoff_hz: Annotated[Finite, Field(ge=CUTOFF_MINIMUM_HZ, le=CUTOFF_MAXIMUM_HZ)] = 1000.0
    resonance_percent: Annotated[Finite, Field(ge=0, le=100)] = 0.0
    full_gain: Annotated[Finite, Field(gt=0, le=1000)] | None = None
    resonance_taper: Taper | tuple[tuple[Finite, Finite], ...] = Taper.LINEAR
    components: Components | None = None
    tolerances: Tolerances = Tolerances()
    notes: Annotated[str, Field(max_length=20_000)] = ""

    @model_validator(mode="before")
    @classmethod
    def _from_components(cls, data: object) -> object:
        """Values instead of normalised numbers: components set the cutoff and the stage headroom."""
        if not isinstance(data, dict) or data.get("components") is None or not isinstance(data.get("circuit"), str):
            return data
        given = data["components"]
        values = given if isinstance(given, Components) else Components.model_validate(given)
        derived = cutoff_hz(data["circuit"], values)
        headroom = stage_headroom_v(values)
        parameters = dict(data.get("parameters") or {})
        for name, stated, follows in (
            ("cutoff_hz", data.get("cutoff_hz", derived), derived),
            ("parameters.stage_headroom_v", parameters.get("stage_headroom_v", headroom), headroom),
        ):
            if not isinstance(stated, int | float) or abs(stated / follows - 1) > 1e-6:
                raise ValueError(f"{name} is {stated}, but the components make it {follows:.6g}; remove one of the two")
        found = {**data, "cutoff_hz": derived, "parameters": {**parameters, "stage_headroom_v": headroom}}
        return found if values.resonance_ohm is None else {**found, "full_gain": full_gain(values)}

    @model_validator(mode="after")
    def _fits_its_circuit(self) -> Filter:
        try:
            entry = circuit(self.circuit)
            entry.values(self.parameters)
            entry.mode(self.mode)
            taper_share(0.5, self.resonance_taper)
        except CircuitError as error:
            raise ValueError(str(error)) from error
        return self

    @property
    def entry(self) -> Circuit:
        """Its catalogue entry."""
        return circuit(self.circuit)

    @property
    def chosen_mode(self) -> str:
        return self.entry.mode(self.mode)

    def network(self) -> Network:
        """The network at the filter's own parameters."""
        return self.entry.network(self.parameters)

    def gain_at(self, resonance_percent: float) -> float:
        """Loop gain at a position of the resonance control, through its taper."""
        full = self.full_gain or self.entry.full_gain
        return float(taper_share(resonance_percent / 100, self.resonance_taper)) * full

    @property
    def control(self) -> dict[str, object]:
        """What the resonance control is, as JSON holds it: a run made with another one is out of date."""
        taper = self.resonance_taper
        return {"taper": str(taper) if isinstance(taper, Taper) else [list(point) for point in taper],
                "full_gain": self.gain_at(100.0)}

    def gains_at(self, resonance_percent: FloatArray) -> FloatArray:
        """(m,) loop gains at positions (m,) of the resonance control."""
        return np.asarray(
            taper_share(resonance_percent / 100, self.resonance_taper) * (self.full_gain or self.entry.full_gain)
        )

    def percent_at(self, gain: float) -> float:
        """Position of the resonance control at a loop gain; may pass 100."""
        return 100 * float(taper_travel(gain / (self.full_gain or self.entry.full_gain), self.resonance_taper))


def filter_schema() -> dict[str, object]:
    """JSON Schema of a filter file."""
    return Filter.model_json_schema()


def read_filter(path: Path) -> Filter:
    """Read a *.filter.json. Raises CircuitError with the place and what to do."""
    text = document_text(path, "a filter file", "give a catalogue id (see 'jiyuu circuits') or a *.filter.json")
    return parse_filter(text, source=str(path))


def document_text(path: Path, what: str, hint: str) -> str:
    """What a document of this program holds. Raises CircuitError for no file, a much too large one, or other text."""
    if not path.is_file():
        raise CircuitError(f"{path} is not a file; {hint}.")
    if path.stat().st_size > LARGEST_FILE:
        raise CircuitError(f"{path} is larger than {what} can be ({LARGEST_FILE} bytes); check that it is one.")
    try:
        return path.read_bytes().decode("utf-8")
    except UnicodeDecodeError as error:
        raise CircuitError(f"{path} is not text in UTF-8; save it again as JSON in UTF-8.") from error


def parse_filter(text: str, *, source: str) -> Filter:
    """A filter from JSON text. Raises CircuitError naming the source, the place and what to do."""
    try:
        document = json.loads(text, object_pairs_hook=without_duplicates, parse_constant=refuse_constant)
    except json.JSONDecodeError as error:
        raise CircuitError(f"{source} is not valid JSON: {error.msg} at line {error.lineno}; mend it there.") from error
    except (ValueError, RecursionError) as error:
        raise CircuitError(f"{source}: {error}.") from error
    if not isinstance(document, dict):
        raise CircuitError(f"{source} is JSON but not a filter; a filter file is one object with 'name' and 'circuit'.")
    try:
        return Filter.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"]) or "the filter"
        message = first["msg"].removeprefix("Value error, ")
        if first["type"] == "extra_forbidden":
            message = "this key is not known; remove it or correct its spelling"
        raise CircuitError(f"{source}: {place}: {message}") from error


def write_filter(path: Path, document: Filter) -> None:
    """Write a filter file, whole or not at all."""
    write_text(path, document.model_dump_json(indent=2) + "\n")


def without_duplicates(pairs: list[tuple[str, object]]) -> dict[str, object]:
    """Of a JSON object. Raises ValueError for a key that stands there twice."""
    found: dict[str, object] = {}
    for key, value in pairs:
        if key in found:
            raise ValueError(f"the key '{key}' stands there twice; keep one")
        found[key] = value
    return found


def refuse_constant(name: str) -> float:
    """Raises ValueError: NaN and infinities are no JSON, although many a reader takes them."""
    raise ValueError(f"{name} is not a value a filter can have; give a finite number")


def neutral_filter(circuit_id: str) -> Filter:
    """A catalogue circuit as it stands, no resonance."""
    return Filter(name=circuit(circuit_id).title, circuit=circuit_id)

