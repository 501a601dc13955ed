"""A filter's large-signal output for a recording, with control voltages from recordings of their own."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from jiyuu.cli.options import Chosen, notice
from jiyuu.errors import SignalError
from jiyuu.signals.recordings import Recording, read_recording, write_recording
from jiyuu.simulation.light_element import through_light
from jiyuu.simulation.render import HIGHEST_OVERSAMPLING
from jiyuu.simulation.render import render as run
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
    source = read_recording(input_wav, full_scale_v=full_scale_v, may_be_silent=True)

    def control(path: Path | None) -> Recording | None:
        if path is None:
            return None
        record = read_recording(path, full_scale_v=full_scale_v, may_be_silent=True)
        if record.sample_rate_hz != source.sample_rate_hz:
            raise SignalError(
                f"{path} has a rate of {record.sample_rate_hz} Hz and {input_wav} {source.sample_rate_hz} Hz; "
                "convert the control voltage to the rate of the input."
            )
        return record

    cutoff_record, resonance_record = control(cutoff_cv), control(resonance_cv)
    entry, cutoff_v = standing.document.entry, None
    if cutoff_record is not None:
        cutoff_v = through_light(
            entry, entry.values(standing.parameters), cutoff_record.channels_v[0], source.sample_rate_hz,
            cutoff_hz=standing.cutoff_hz,
        )
    outputs = []
    for channel in source.channels_v:
        rendered = run(
            standing.network, channel * standing.drive,
            sample_rate_hz=source.sample_rate_hz, cutoff_hz=standing.cutoff_hz, gain=standing.gain,
            modes=[standing.mode],
            cutoff_cv_v=cutoff_v,
            gain_cv=None if resonance_record is None else resonance_record.channels_v[0] * resonance_cv_gain,
        )
        if rendered.difference_db is not None and rendered.difference_db > -90:
            notice(
                f"jiyuu: the last two integration rates still differ by {rendered.difference_db:.0f} dB at "
                f"{HIGHEST_OVERSAMPLING} times; the setting is very stiff."
            )
        outputs.append(rendered.output_v[0])
    write_recording(output_wav, np.array(outputs), source.sample_rate_hz, full_scale_v=full_scale_v, inputs=read)
