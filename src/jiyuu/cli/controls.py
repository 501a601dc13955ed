"""'jiyuu controls': what moves in a patch, as columns over time, and how far each target goes."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import FilterArgument, Json, Set, notice, print_json, typed
from jiyuu.errors import CircuitError
from jiyuu.patch.file_kind import is_patch

MOST_ROWS = 50_000_000


def controls(
    patch: FilterArgument,
    duration: Annotated[str, typer.Option("--duration", help="How long, s.")] = "2",
    rate: Annotated[str, typer.Option("--rate", help="Rows a second, Hz.")] = "1000",
    set: Set = None,
    out: Annotated[Path | None, typer.Option("--out", help="CSV file to write; printed when not given.")] = None,
    json: Json = False,
) -> None:
    """Controls and what their routes make of each target, as columns over time; --json says how far each one goes."""
    import numpy as np

    from jiyuu.cli.options import PatchSettings
    from jiyuu.cli.patches import chosen_patch
    from jiyuu.patch.motion import Motion
    from jiyuu.whole_file import write_bytes

    if not is_patch(patch):
        raise CircuitError(f"{patch} is no patch, and only in a patch something moves; give a *.patch.json.")
    length_s = typed(duration, "--duration", "s", 1e-3, 3600)
    rate_hz = typed(rate, "--rate", "Hz", 0.1, 1e6)
    document, files = chosen_patch(patch, PatchSettings(settings=tuple(set or ())))
    rows = round(length_s * rate_hz)
    if not 1 <= rows * (1 + len(document.controls) + len(document.routes)) <= MOST_ROWS:
        raise CircuitError("that many rows are too many to write; give a lower --rate or a shorter --duration.")
    times_s = np.arange(rows) / rate_hz
    motion = Motion(document, length_s, from_outside=True)
    columns = {"time_s": times_s, **{target.name: motion.value(target, times_s) for target in motion.targets},
               **{name: motion.control(name, times_s) for name in document.controls}}
    if out is not None or not json:
        lines = [",".join(columns), *(",".join(f"{value:.12g}" for value in row)
                                      for row in zip(*columns.values(), strict=True))]
        text = "\n".join(lines) + "\n"
        if out is None:
            print(text, end="")
        else:
            if out.suffix.lower() not in ("", ".csv"):
                raise CircuitError(f"{out.name}: controls are written as .csv, not as {out.suffix}.")
            write_bytes(out, text.encode(), inputs=files)
            notice(f"{out}: {rows} rows of {', '.join(columns)}.")
    if json:
        spans = [motion.span(target, times_s) for target in motion.targets]
        print_json({"reach": [{
            "target": span.target.name, "unit": span.target.unit, "least": span.least, "greatest": span.greatest,
            "wanted_least": span.wanted_least, "wanted_greatest": span.wanted_greatest,
            "stopped_share": span.stopped_share,
        } for span in spans]})
