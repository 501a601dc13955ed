"""Combination: several filters as one: in series, beside each other, left and right; banks, vowels, shapes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.bench.step import Unmeasured
from jiyuu.wording.combination import QUANTITIES


class CombinationStep(Unmeasured):
    """What is combined is part of the path of the filter as it stands; here it is put together and looked at. Measured
    it is where a filter is: in Response and the steps behind it, all of the path together."""

    number, key, name = 8, "combination", "Combination"
    purpose = "what several filters make together: in series, beside each other, left and right; banks, vowels, shapes"
    quantities = QUANTITIES

    def predict(self, standing: Standing, setting: Setting) -> Iterator[Any]:
        from jiyuu.bench.patched import filled_path
        from jiyuu.prediction.combined import combined

        yield combined(filled_path(standing), None)


STEP = CombinationStep()
