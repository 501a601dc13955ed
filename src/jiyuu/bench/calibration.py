"""The calibration record of a tracking run: date, temperature, readings, trims, what was advised."""

from __future__ import annotations

import json

import numpy as np

from jiyuu.book.stored import Shelved, StoredRun
from jiyuu.errors import JiyuuError
from jiyuu.measurement.tracking import Tracking
from jiyuu.prediction.trim_advice import Advice
from jiyuu.wording.tracking import advice_lines


def calibration_record(
    shelved: Shelved, run: StoredRun, tracking: Tracking, advice: Advice, *, ending: str
) -> str:
    """The record as text. Raises JiyuuError for another ending than .json or .csv."""
    facts, readings = run.facts, tracking.readings
    head = {
        "filter": f"{shelved.letter} {shelved.document.name}", "circuit": shelved.document.circuit, "mode": run.mode,
        "made_at": run.made_at, "source": run.source, "temperature_c": facts.get("temperature_c"),
        "zero_volt_hz": facts.get("start_hz"), "trims_turns": run.standing.get("trims", {}),
        "trims_noted": facts.get("note", ""), "tolerance_cents": tracking.tolerance_cents,
        "scale_v_per_octave": tracking.scale_v_per_octave.value,
        "usable_span_v": 0.0 if tracking.usable is None else tracking.usable.volts,
        "advice": list(advice_lines(advice)),
    }
    columns = {
        "volts": readings.volts, "frequency_hz": readings.frequency_hz, "error_cents": tracking.error_cents,
        "amplitude_peak_v": readings.level_v,
    }
    if ending == ".json":
        table = {name: [None if np.isnan(v) else float(v) for v in column] for name, column in columns.items()}
        return json.dumps({**head, **table}, indent=2, ensure_ascii=False) + "\n"
    if ending != ".csv":
        raise JiyuuError("A calibration record is a .csv or a .json file; choose one of the two endings.")
    rows = [f"# {name}: {value}" for name, value in head.items() if name != "advice"]
    rows += [f"# {line}" for line in head["advice"]]
    rows.append(",".join(columns))
    rows += [f"{v:g},{hz:.7g},{cents:.4f},{'' if np.isnan(level) else f'{level:.5g}'}"
             for v, hz, cents, level in zip(*columns.values(), strict=True)]
    return "\n".join(rows) + "\n"
