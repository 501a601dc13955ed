"""'jiyuu measure settling': how a whistle follows the steps of its control."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import Channel, FullScale, Json, print_json, say_notices
from jiyuu.cli.waiting import in_view


def measure_settling_of(
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    channel: Channel = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Settling time, overshoot and feedthrough of a whistle whose cutoff is stepped, from one recording."""
    from jiyuu.measurement.notice import Fault, Notice
    from jiyuu.measurement.settling import measure_settling
    from jiyuu.measurement.waveform_faults import NEARLY, at_full_scale
    from jiyuu.quantities import shown_hz
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import read_to_measure
    from jiyuu.wording.notices import notices_json

    read = read_to_measure(recording, full_scale_v=full_scale_v)
    heard, chosen = channel_of(read, None, channel)
    with in_view("Measuring"):
        steps = measure_settling(heard, float(read.sample_rate_hz))
    notices = [] if chosen is None else [chosen]
    clipped = at_full_scale(heard, full_scale_v)
    if clipped is not None:
        share = float((abs(heard) >= NEARLY * full_scale_v).mean())
        notices.append(Notice(Fault.CLIPPED, clipped / read.sample_rate_hz, {"share_percent": 100 * share}))
    if json:
        print_json({
            "steps": [{
                "at_s": step.at_s, "from_hz": step.from_hz, "to_hz": step.to_hz, "settling_s": step.settling_s,
                "resolution_s": step.resolution_s, "overshoot_cents": step.overshoot_cents,
                "feedthrough_v": None if clipped is not None else step.feedthrough_v,
            } for step in steps],
            "warnings": notices_json(tuple(notices)),
        })
        return
    say_notices(notices)
    for step in steps:
        glide = ": a glide can be heard" if step.heard_as_glide else ""
        typer.echo(f"{step.at_s:8.4f} s, {shown_hz(step.from_hz)} to {shown_hz(step.to_hz)}: settled after "
                   f"{1000 * step.settling_s:.2f} ms (told to {1000 * step.resolution_s:.2g} ms), overshoot "
                   f"{step.overshoot_cents:.1f} cents, {1000 * step.feedthrough_v:+.1f} mV couple over{glide}")
