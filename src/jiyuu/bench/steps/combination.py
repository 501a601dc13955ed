"""Combination: several filters as one: in series, beside each other, left and right; banks, vowels, shapes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Unmeasured
from jiyuu.field_words import asked
from jiyuu.signals.source import Source, SourceKind
from jiyuu.wording.combination import QUANTITIES


class CombinationSetting(Setting):
    """What is to be heard beside the filter in hand."""

    wanted: Annotated[
        Literal["low knock", "knock figure", "tide figure", "chord", "saw", "square", "sine", "file"],
        Field(title="To be heard", description="A sound that the filter in hand is mixed with and must not hide."),
    ] = "low knock"
    wanted_hz: Annotated[float, asked("Its pitch", unit="Hz", step=1, low=20, high=5000)] = 55.0
    wanted_db: Annotated[float, asked("Its level", unit="dB", step=1, low=-60, high=60,
                                      tip="Loudness re that of the filter's output.")] = 0.0
    wanted_path: Annotated[str, Field(max_length=4096)] = ""

    @property
    def wanted_source(self) -> Source:
        path = Path(self.wanted_path) if self.wanted == "file" else None
        return Source(SourceKind(self.wanted), self.wanted_hz, path=path)


class CombinationStep(Unmeasured):
    """What is combined is part of the path of the filter as it stands; here it is put together and looked at. Measured
    it is where a filter is: in Response and the steps behind it, all of the path together."""

    number, key, name = 8, "combination", "Combination"
    purpose = "what several filters make together: in series, beside each other, left and right; banks, vowels, shapes"
    setting = CombinationSetting
    quantities = QUANTITIES
    hears_all = True

    def refuse(self, standing: Standing, setting: Setting) -> str | None:
        return ("Nothing is measured in Combination: all of the path together is measured in Response and the steps "
                "behind it.")

    def predict(self, standing: Standing, setting: Setting) -> Iterator[object]:
        from jiyuu.bench.patched import filled_path
        from jiyuu.prediction.combined import combined

        yield combined(filled_path(standing), None)


STEP = CombinationStep()
