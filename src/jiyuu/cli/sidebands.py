"""'jiyuu measure sidebands': what a tone becomes while the cutoff is moved within hearing."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import Channel, Json, in_hertz, notice, print_json, say_notices, uncertain


def measure_sidebands(
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    tone_hz: Annotated[float, typer.Option("--tone", parser=in_hertz, help="Hz of the tone that was played.")],
    rate_hz: Annotated[float, typer.Option("--rate", parser=in_hertz, help="Hz of the sine that moved the cutoff.")],
    orders: Annotated[int, typer.Option("--orders", help="Lines on either side.")] = 4,
    channel: Channel = None,
    json: Json = False,
) -> None:
    """Levels of the lines beside a steady tone through a filter whose cutoff a sine moves within hearing."""
    from jiyuu.measurement.sideband_lines import MOST_SAMPLES, sideband_lines
    from jiyuu.measurement.waveform_faults import clipping
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import may_be_measured, read_part, read_to_measure, size_of
    from jiyuu.wording.notices import notices_json

    if may_be_measured(recording):
        read = read_to_measure(recording)
    else:  # a tone is steady: the middle of it says as much
        middle = size_of(recording)[0] // 2
        read = read_part(recording, middle - MOST_SAMPLES, middle + MOST_SAMPLES)
    record_v, chosen = channel_of(read, None, channel)
    found = sideband_lines(record_v, float(read.sample_rate_hz), tone_hz=tone_hz, rate_hz=rate_hz, orders=orders)
    if read.cut_short:
        notice(f"{recording.name} is too long to be measured as a whole: the middle of it is.")
    clipped, _ = clipping(record_v)  # it makes lines of its own
    notices = tuple(notice for notice in (chosen, clipped) if notice is not None)
    lines = list(zip(found.order.astype(int).tolist(), found.frequency_hz.tolist(), found.level_db.tolist(),
                     found.uncertainty_db.tolist(), strict=True))
    if json:
        print_json({
            "tone_hz": tone_hz, "rate_hz": rate_hz, "clock_offset_ppm": found.clock_ppm, "lines": [
                {"order": order, "frequency_hz": hertz, "level_db": uncertain(level, doubt)}
                for order, hertz, level, doubt in lines],
            "warnings": notices_json(notices)})
        return
    say_notices(notices)
    for order, hertz, level, doubt in lines:
        typer.echo(f"{order:+3d}  {hertz:9.2f} Hz  {level:+7.2f} ± {doubt:.2g} dB")
