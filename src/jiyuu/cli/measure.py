"""'jiyuu measure …': a measurement on files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from jiyuu.cli.options import FullScale, Json, Out, print_json, uncertain
from jiyuu.whole_file import write_text

measure_app = typer.Typer(help="Measure recordings.", no_args_is_help=True)
CURVE_STEP = 4  # 48 rows an octave


@measure_app.command("response")
def response(
    stimulus: Annotated[Path, typer.Argument(metavar="STIMULUS.wav")],
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    out: Out = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Response, cutoffs, slope, peak, polarity, latency from a stimulus and its recording."""
    from jiyuu.measurement.findings import read_response, response_findings
    from jiyuu.measurement.response import measure_response
    from jiyuu.measurement.wording import sentence
    from jiyuu.rig.files import read_pair

    pair = read_pair(stimulus, recording, full_scale_v=full_scale_v)
    measured = measure_response(pair.stimulus_v, pair.recording_v, pair.sample_rate_hz)
    read = read_response(measured)
    if out is not None:
        write_text(out, curve_csv(measured))
    if not json:
        for finding in response_findings(measured, read, {}):
            typer.echo(sentence(finding))
        return
    reading, doubt = read.reading, read.uncertainty

    def value(name: str) -> dict[str, float | None] | None:
        return uncertain(getattr(reading, name), doubt.get(name))

    offset = measured.clock_offset_ppm
    print_json({
        "kind": reading.kind.value,
        "cutoff_3db_hz": value("cutoff_3db_hz"), "low_3db_hz": value("low_3db_hz"),
        "high_3db_hz": value("high_3db_hz"), "peak_hz": value("peak_hz"), "peak_db": value("peak_db"),
        "passband_db": value("passband_db"), "slope_db_per_octave": value("slope_db_per_octave"),
        "low_slope_db_per_octave": value("low_slope_db_per_octave"),
        "first_octave_drop_db": value("first_octave_drop_db"), "q": value("q"),
        "notch_hz": value("notch_hz"), "notch_depth_db": value("notch_depth_db"),
        "polarity": measured.polarity,
        "latency_s": uncertain(measured.latency_s.value, measured.latency_s.uncertainty),
        "clock_offset_ppm": None if offset is None else uncertain(offset.value, offset.uncertainty),
        "noise_floor_db": measured.noise_floor_db,
        "humps": [
            {"frequency_hz": h.frequency_hz, "level_db": h.level_db, "prominence_db": h.prominence_db,
             "octaves_from_cutoff": h.octaves_from_cutoff}
            for h in reading.humps
        ],
    })


def curve_csv(measured: Any) -> str:
    """The measured curve: recording over stimulus, phase with the latency taken out."""
    rows = ["frequency_hz,magnitude_db,phase_deg,uncertainty_db,snr_db"]
    columns = (
        measured.frequency_hz, measured.level_db, measured.phase_deg, measured.level_uncertainty_db, measured.snr_db
    )
    rows += [
        ",".join(f"{number:.9g}" for number in row)
        for row in zip(*(column[::CURVE_STEP] for column in columns), strict=True)
    ]
    return "\n".join(rows) + "\n"


@measure_app.command("tone")
def tone(
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    full_scale_v: FullScale = 10.0,
    concert_a: Annotated[float, typer.Option("--concert-a", help="Frequency of A4, Hz.")] = 440.0,
    json: Json = False,
) -> None:
    """Frequency, note, level, distortion of a steady tone."""
    from jiyuu.errors import MeasurementError
    from jiyuu.measurement.tone import measure_tone
    from jiyuu.quantities import shown_hz, signed
    from jiyuu.signals.recordings import read_recording

    if not 200 <= concert_a <= 900:
        raise MeasurementError(f"--concert-a {concert_a:g} is out of range; give 200 to 900 Hz.")
    record = read_recording(recording, full_scale_v=full_scale_v)
    found = measure_tone(record.loudest_v, record.sample_rate_hz, concert_a_hz=concert_a)
    if json:
        print_json({
            "frequency_hz": uncertain(found.frequency_hz.value, found.frequency_hz.uncertainty),
            "note": found.note, "cents": found.cents, "amplitude_peak_v": found.amplitude_peak_v,
            "dc_v": found.dc_v, "thd_percent": found.thd_percent, "thd_n_percent": found.thd_n_percent,
            "harmonics_db": list(found.harmonics_db),
        })
        return
    typer.echo(
        f"{shown_hz(found.frequency_hz.value)}, {found.note} {signed(found.cents)} cents, "
        f"{found.amplitude_peak_v:.4g} V peak, THD {found.thd_percent:.3g} %."
    )
