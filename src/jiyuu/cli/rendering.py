"""A filter's large-signal output for a recording, with control voltages from recordings of their own."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from jiyuu.cli.options import Chosen, notice
from jiyuu.cli.waiting import in_view
from jiyuu.errors import SignalError
from jiyuu.signals.long_record import Record, weighted
from jiyuu.signals.recordings import read_long, write_long
from jiyuu.simulation.light_element import record_through_light
from jiyuu.simulation.render import HIGHEST_OVERSAMPLING, render_record
from jiyuu.whole_file import apart_from


def render_filter(
    chosen: Chosen, input_wav: Path, output_wav: Path, *, full_scale_v: float, cutoff_cv: Path | None,
    resonance_cv: Path | None, resonance_cv_gain: float,
) -> None:
    """Raises JiyuuError with what to do where a file cannot be used."""
    standing = chosen.standing
    if not np.isfinite(resonance_cv_gain):
        raise SignalError(f"--resonance-cv-gain {resonance_cv_gain} is invalid; give a finite number.")
    read = [*chosen.files, input_wav, *(path for path in (cutoff_cv, resonance_cv) if path is not None)]
    apart_from(output_wav, read)
    source = read_long(input_wav, full_scale_v=full_scale_v, may_be_silent=True)

    def control(path: Path | None) -> Record | None:
        if path is None:
            return None
        record = read_long(path, full_scale_v=full_scale_v, may_be_silent=True)
        if record.sample_rate_hz != source.sample_rate_hz:
            raise SignalError(
                f"{path} has a rate of {record.sample_rate_hz} Hz and {input_wav} {source.sample_rate_hz} Hz; "
                "convert the control voltage to the rate of the input."
            )
        return record.channels[0]

    cutoff_v, resonance_v = control(cutoff_cv), control(resonance_cv)
    entry = standing.document.entry
    if cutoff_v is not None:
        cutoff_v = record_through_light(entry, entry.values(standing.parameters), cutoff_v, source.sample_rate_hz,
                                        cutoff_hz=standing.cutoff_hz)
    outputs = []
    for channel in source.channels:
        with in_view("Rendering"):
            rendered = render_record(
                standing.network, weighted([channel], [standing.drive]),
                sample_rate_hz=source.sample_rate_hz, cutoff_hz=standing.cutoff_hz, gain=standing.gain,
                modes=[standing.mode], cutoff_cv=cutoff_v,
                gain_cv=None if resonance_v is None else weighted([resonance_v], [resonance_cv_gain]),
            )
        if rendered.difference_db is not None and rendered.difference_db > -90:
            notice(
                f"jiyuu: the last two integration rates still differ by {rendered.difference_db:.0f} dB at "
                f"{HIGHEST_OVERSAMPLING} times; the setting is very stiff."
            )
        outputs.append(rendered.outputs[0])
    write_long(output_wav, outputs, source.sample_rate_hz, full_scale_v=full_scale_v, inputs=read)
