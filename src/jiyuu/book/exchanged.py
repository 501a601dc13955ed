"""What the JSON files of an exchanged book hold, as models; anything else in them is refused."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

FORMAT: Literal["jiyuu-exchange"] = "jiyuu-exchange"
VERSION: Literal[1] = 1
Number = Annotated[int, Field(ge=1, lt=2**63)]
Word = Annotated[str, Field(min_length=1, max_length=200)]
Numeric = Annotated[float, Field(allow_inf_nan=False)]


class Exchanged(BaseModel):
    """Base of all parts: frozen, strict, unknown names refused."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class FilterPart(Exchanged):
    """A filter: file is where its document lies; settings: what stands round it, by name."""

    id: Number
    letter: Annotated[str, Field(pattern=r"^[A-Z]$")]
    seed: int | None
    shown: bool
    created_at: Word
    file: Word
    settings: dict[Word, object]


class EnclosedPart(Exchanged):
    """What lies beside a note: name of the file it was, what it is, where it lies now."""

    name: Annotated[str, Field(min_length=1, max_length=1000)]
    media: Literal["image/png", "image/jpeg", "audio/wav", "audio/flac"]
    file: Word


class NotePart(Exchanged):
    """A note, of a filter or of the whole book."""

    id: Number
    filter: Number | None
    text: str
    shown: bool
    made_at: Word
    enclosed: EnclosedPart | None = None


class FindingPart(Exchanged):
    """A finding of a filter; kept: whether it stands in the logbook."""

    id: Number
    filter: Number
    step: Word
    quantity: Word
    value: Numeric
    unit: str
    uncertainty: Numeric | None
    tolerance_low: Numeric | None
    tolerance_high: Numeric | None
    sentence: str
    context: dict[str, object] | None
    kept: bool
    kept_at: Word | None


class TablePart(Exchanged):
    """A table of numbers: columns are name and unit."""

    name: Word
    file: Word
    columns: Annotated[list[Annotated[tuple[str, str], Field(strict=False)]], Field(max_length=1000)]


class RecordPart(Exchanged):
    """A raw record: samples of the file × full_scale_v are volts."""

    name: Word
    file: Word
    sample_rate_hz: Annotated[float, Field(gt=0, allow_inf_nan=False)]
    full_scale_v: Annotated[float, Field(gt=0, allow_inf_nan=False)]


class RunPart(Exchanged):
    """A run with all that belongs to it."""

    id: Number
    filter: Number
    step: Word
    mode: str | None
    standing: dict[str, object]
    setting: dict[str, object]
    facts: dict[str, object]
    source: str
    shown: bool
    made_at: Word
    tables: list[TablePart]
    records: list[RecordPart]
    findings: list[FindingPart]


class ActPart(Exchanged):
    """What a person did: the state before and after; undone as the book has it."""

    id: Number
    kind: Literal["set", "keep", "note", "filter", "run"]
    before: dict[str, object]
    after: dict[str, object]
    undone: Annotated[int, Field(ge=0, le=2)]
    done_at: Word


class ActsPart(Exchanged):
    """All of them, in order."""

    actions: list[ActPart]


class BookPart(Exchanged):
    """The head of the folder."""

    format: Literal["jiyuu-exchange"]
    version: Literal[1]
    filters: list[FilterPart]
    notes: list[NotePart]
    findings: list[FindingPart]
