"""A response as the command line gives it: CSV, JSON, or drawn as SVG or PNG, by the ending of the file."""

from __future__ import annotations

import io
import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jiyuu.arrays import FloatArray
from jiyuu.errors import CircuitError
from jiyuu.whole_file import write_bytes

ENDINGS = (".csv", ".json", ".svg", ".png")


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """Each (n,): Hz, dB re the input, continuous degrees, seconds."""

    title: str
    frequency_hz: FloatArray
    magnitude_db: FloatArray
    phase_deg: FloatArray
    group_delay_s: FloatArray


def deliver(curve: Curve, out: Path | None, *, as_json: bool, inputs: Sequence[Path]) -> None:
    """To standard output, or whole into a file. Raises CircuitError for an ending that is none of ENDINGS."""
    if out is None:
        sys.stdout.write(_json(curve) if as_json else _csv(curve))
        return
    ending = out.suffix.lower()
    if ending in (".svg", ".png"):
        data = _drawn(curve, ending.lstrip("."))
    elif ending == ".json" or as_json:
        data = _json(curve).encode()
    elif ending in ("", ".csv") or (not out.is_file() and out.exists()):  # a pipe or a device has no ending
        data = _csv(curve).encode()
    else:
        raise CircuitError(f"{out.name} has no ending a curve can have; use {', '.join(ENDINGS)}.")
    write_bytes(out, data, inputs=inputs)


def _rows(curve: Curve) -> list[tuple[float, ...]]:
    return list(zip(curve.frequency_hz, curve.magnitude_db, curve.phase_deg, curve.group_delay_s, strict=True))


def _csv(curve: Curve) -> str:
    rows = [",".join(f"{value:.9g}" for value in row) for row in _rows(curve)]
    return "\n".join(["frequency_hz,magnitude_db,phase_deg,group_delay_s", *rows]) + "\n"


def _json(curve: Curve) -> str:
    columns = {name: [float(f"{value:.9g}") for value in getattr(curve, name)]
               for name in ("frequency_hz", "magnitude_db", "phase_deg", "group_delay_s")}
    return json.dumps({"title": curve.title, **columns}, allow_nan=False, ensure_ascii=False) + "\n"


def _drawn(curve: Curve, kind: str) -> bytes:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(8.0, 5.0), layout="constrained")
    level, phase = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
    level.semilogx(curve.frequency_hz, curve.magnitude_db, color="#1d5fa8")
    phase.semilogx(curve.frequency_hz, curve.phase_deg, color="#1d5fa8")
    level.set_title(curve.title, loc="left")
    level.set_ylabel("dB re the input")
    phase.set_ylabel("degrees")
    phase.set_xlabel("Hz")
    for axes in (level, phase):
        axes.grid(visible=True, which="both", color="#dddddd", linewidth=0.6)
    data = io.BytesIO()
    figure.savefig(data, format=kind, dpi=120)
    return data.getvalue()
