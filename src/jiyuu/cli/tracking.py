"""'jiyuu measure tracking': a staircase of tones in a recording, judged against 1 V/octave."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import numpy as np
import typer

from jiyuu.cli.options import Channel, FullScale, Json, Out, in_cents, in_volts, print_json, say_notices
from jiyuu.cli.waiting import in_view
from jiyuu.whole_file import write_text
from jiyuu.wording.notices import notices_head, notices_json

if TYPE_CHECKING:
    from jiyuu.measurement.staircase import Staircase
    from jiyuu.measurement.tracking import Span, Tracking
    from jiyuu.measurement.uncertain import Uncertain
    from jiyuu.prediction.trim_advice import Advice


def tracking(
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    volts: Annotated[str | None, typer.Option("--volts", help="Volts of the steps in order: 0,1,2,3 or 0:8:1.")] = None,
    notes: Annotated[str | None, typer.Option("--notes", help="Instead of volts, the notes played, for key follow: "
                                              "C3,E3,G3, hertz of any other scale, 130.8,163.5,196.2, or "
                                              "its steps over the first, C3,5/4,702c.")] = None,
    tolerance_cents: Annotated[float, typer.Option(
        "--tolerance-cents", parser=in_cents, help="What counts as in tune.")] = 5.0,
    reference_v: Annotated[float | None, typer.Option(
        "--reference-v", parser=in_volts, help="Step that the errors are against; the first when not given.")] = None,
    zero_hz: Annotated[str | None, typer.Option("--zero-hz", help="Pitch meant at 0 V: 261.6, C4, 110. The offset is "
                                                "against it, and given it the offset trim is advised.")] = None,
    no_hf_trim: Annotated[bool, typer.Option("--no-hf-trim", help="The unit has no high-frequency trim.")] = False,
    harmonic: Annotated[int | None, typer.Option("--harmonic", help="Which harmonic sounds loudest; found from the "
                                                 "partials when not given.", min=1, max=16)] = None,
    channel: Channel = None,
    out: Out = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Volts, hertz, cents, level of every step; scale, offset, usable span; what to turn and what will be left."""
    from jiyuu.errors import MeasurementError
    from jiyuu.measurement.staircase import measure_staircase
    from jiyuu.measurement.tracking import read_tracking, readings_of
    from jiyuu.prediction.trim_advice import advise
    from jiyuu.quantities import C4_HZ, parse_frequency, parse_scale, volts_of
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import read_to_measure

    if (volts is None) == (notes is None):
        raise MeasurementError("give either --volts of the steps or the --notes played, for example --volts 0:8:1.")
    asked = parse_volts(volts) if volts is not None else [volts_of(hz) for hz in parse_scale(notes or "")]
    if not (np.isfinite(tolerance_cents) and 0 < tolerance_cents <= 1200):
        raise MeasurementError(f"--tolerance-cents {tolerance_cents:g} is out of range; give more than 0, up to 1200.")
    if reference_v is not None and not any(abs(v - reference_v) < 1e-9 for v in asked):
        raise MeasurementError(f"--reference-v {reference_v:g} is none of the volts given; choose one of them.")
    zero = C4_HZ if zero_hz is None else parse_frequency(zero_hz)
    record = read_to_measure(recording, full_scale_v=full_scale_v)
    record_v, chosen = channel_of(record, None, channel)
    with in_view("Measuring"):
        found = measure_staircase(record_v, record.sample_rate_hz, asked, harmonic=harmonic)
    if chosen is not None:
        found = replace(found, notices=(chosen, *found.notices))
    read = read_tracking(readings_of(found), reference_v=reference_v, tolerance_cents=tolerance_cents, zero_hz=zero)
    target = None if zero_hz is None else zero * 2.0**read.reference_v
    advice = advise(read, target_hz=target, has_hf_trim=not no_hf_trim)
    if out is not None:
        write_text(out, "\n".join([*notices_head(found.notices), readings_csv(read)]), inputs=(recording,))
    if json:
        print_json(as_json(found, read, advice))
    else:
        say_notices(found.notices)
        _say(found, read, advice)


def parse_volts(text: str) -> list[float]:
    """'0,1,2.5' or '0:8:1' (from, to, step; both ends belong) -> volts. Raises MeasurementError."""
    from jiyuu.errors import MeasurementError

    hint = "write for example 0,1,2,3 or 0:8:1"
    try:
        if ":" in text:
            parts = [float(part) for part in text.split(":")]
            first, last, step = parts if len(parts) == 3 else (*parts, 1.0)
            if not np.isfinite([first, last, step]).all() or step == 0 or (last - first) / step < 0:
                raise MeasurementError(f"--volts '{text}' leads nowhere; {hint}.")
            count = (last - first) / step
            if count > 1000:
                raise MeasurementError(f"--volts '{text}' are {count:.0f} steps; at most 1000 can be told apart.")
            return [float(v) for v in first + step * np.arange(int(count + 1e-6) + 1)]
        return [float(part) for part in text.split(",")]
    except ValueError as error:
        raise MeasurementError(f"--volts '{text}' are not numbers; {hint}.") from error


def as_json(found: Staircase, read: Tracking, advice: Advice) -> dict[str, object]:
    """The result as the command line gives it."""
    from jiyuu.wording.tracking import advice_lines

    readings, fit = read.readings, advice.fit
    cents = readings.uncertainty_cents
    return {
        "steps": [
            {
                "volts": float(readings.volts[i]), "frequency_hz": float(readings.frequency_hz[i]),
                "uncertainty_cents": float(cents[i]), "error_cents": float(read.error_cents[i]),
                "residual_cents": float(read.residual_cents[i]), "amplitude_peak_v": float(readings.level_v[i]),
                "settled_s": tone.settled_s, "start_s": tone.start_s, "stop_s": tone.stop_s,
                "drift_cents_per_s": tone.drift_cents_per_s,
            }
            for i, tone in enumerate(found.tones)
        ],
        "missing_volts": list(found.missing_volts),
        "reference_v": read.reference_v,
        "tolerance_cents": read.tolerance_cents,
        "scale_v_per_octave": read.scale_v_per_octave.value,
        "scale_uncertainty_v_per_octave": read.scale_v_per_octave.uncertainty,
        "key_follow_percent": 100 / read.scale_v_per_octave.value,
        "offset_cents": read.offset_cents.value,
        "offset_uncertainty_cents": read.offset_cents.uncertainty,
        "worst_error_cents": read.worst_cents,
        "residual_rms_cents": float(np.sqrt(np.mean(read.residual_cents**2))),
        **_span("usable", read.usable),
        "usable_span_after_trim_v": 0.0 if read.usable_after_trim is None else read.usable_after_trim.volts,
        "converter": {
            "scale_error_percent": {"value": 100 * fit.scale_error.value,
                                    "uncertainty": 100 * fit.scale_error.uncertainty},
            "droop_cents_at_10_khz": _doubted(fit.droop_cents), "leak_cents_at_20_hz": _doubted(fit.leak_cents),
        },
        "advice": list(advice_lines(advice)),
        "trims": [{"trim": t.trim, "direction": "up" if t.amount > 0 else "down", "amount": t.amount,
                   "turns": t.turns} for t in advice.turns],
        "worst_error_after_cents": advice.after.worst_cents,
        **_span("usable_after_advice", advice.after.usable),
        "remarks": list(found.remarks),
        "warnings": notices_json(found.notices),
    }


def _doubted(value: Uncertain | None) -> dict[str, float] | None:
    return None if value is None else {"value": value.value, "uncertainty": value.uncertainty}


def _span(name: str, span: Span | None) -> dict[str, float | None]:
    octaves = "usable_octaves" if name == "usable" else f"{name}_octaves"
    return {
        f"{name}_span_v": 0.0 if span is None else span.volts, octaves: 0.0 if span is None else span.octaves,
        f"{name}_from_v": None if span is None else span.from_v, f"{name}_to_v": None if span is None else span.to_v,
    }


def readings_csv(read: Tracking) -> str:
    """A row a step; empty where something is not known."""
    rows = ["volts,frequency_hz,uncertainty_cents,error_cents,residual_cents,amplitude_peak_v,settled_s"]
    readings = read.readings
    columns = (readings.volts, readings.frequency_hz, readings.uncertainty_cents, read.error_cents,
               read.residual_cents, readings.level_v, readings.settled_s)
    rows += [",".join("" if np.isnan(v) else f"{v:.9g}" for v in row) for row in zip(*columns, strict=True)]
    return "\n".join(rows) + "\n"


def _say(found: Staircase, read: Tracking, advice: Advice) -> None:
    from jiyuu.quantities import signed
    from jiyuu.wording.tracking import advice_lines, words_of

    typer.echo("    volts         hertz    cents off   level V  settled s")
    for i, tone in enumerate(found.tones):
        off = read.error_cents[i]
        mark = "" if abs(off) <= read.tolerance_cents else "  !"
        settled = "" if tone.settled_s is None else f"{tone.settled_s:.3f}"
        typer.echo(f"{read.readings.volts[i]:9.3f} {read.readings.frequency_hz[i]:13.4f} {signed(off, 2):>12} "
                   f"{tone.amplitude_peak_v:9.4f} {settled:>10}{mark}")
    scale = read.scale_v_per_octave
    typer.echo(f"An octave takes {scale.value:.5f} ± {scale.uncertainty:.1g} V. Within ±{read.tolerance_cents:g} "
               f"cents: {words_of(read.usable)}.")
    typer.echo(f"Key follow {100 / scale.value:.2f} %.")
    for line in (*found.remarks, *advice_lines(advice)):
        typer.echo(line)
