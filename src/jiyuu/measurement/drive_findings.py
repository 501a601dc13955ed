"""The findings of the Drive step that a measured ladder of levels gives."""

from __future__ import annotations

import numpy as np

from jiyuu.measurement.contexts import DrivenTone, LampAt, TonePair
from jiyuu.measurement.drive import MeasuredDrive
from jiyuu.measurement.finding import Finding
from jiyuu.measurement.uncertain import Uncertain


def drive_findings(found: MeasuredDrive, *, level_v: float, lamp_percent: float) -> list[Finding]:
    """At the measured level next to the nominal one, and the levels from which it bends."""
    nearest = int(np.argmin([abs(np.log(level.input_peak_v / level_v)) for level in found.levels]))
    level = found.levels[nearest]
    tone = DrivenTone(level.input_peak_v, found.frequency_hz, level.even_percent.value, level.odd_percent.value,
                      level.gain_db.value)
    made = [Finding("driven_thd_percent", level.thd_percent.value, "%", level.thd_percent.uncertainty, context=tone),
            Finding("thd_n_percent", level.thd_n_percent.value, "%", level.thd_n_percent.uncertainty, context=tone)]

    def reached(quantity: str, value: Uncertain | None, context: DrivenTone | LampAt) -> None:
        if value is not None:
            made.append(Finding(quantity, value.value, "V", value.uncertainty, context=context))

    reached("compression_1db_v", found.compression_1db_v, tone)
    reached("thd_1_percent_v", found.thd_1_percent_v, tone)
    reached("lamp_v", found.lamp_v, LampAt(lamp_percent))
    if found.products is not None:
        tones = found.products.tones
        for quantity, stated in (("difference_2_percent", found.products.second_percent),
                                 ("difference_3_percent", found.products.third_percent)):
            made.append(Finding(quantity, stated.value, "%", stated.uncertainty,
                                context=TonePair(tones.low_hz, tones.high_hz, tones.level_v)))
    return made
