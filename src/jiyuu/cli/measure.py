"""'jiyuu measure …': a measurement on files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from jiyuu.cli.options import (
    Channel,
    FullScale,
    Json,
    Out,
    in_hertz,
    in_volts,
    notice,
    print_json,
    say_notices,
    uncertain,
)
from jiyuu.cli.tracking import tracking
from jiyuu.cli.waiting import in_view
from jiyuu.whole_file import apart_from, write_text
from jiyuu.wording.notices import notices_head, notices_json

if TYPE_CHECKING:
    from jiyuu.arrays import FloatArray
    from jiyuu.measurement.curve_reading import CurveReading
    from jiyuu.measurement.response import MeasuredResponse

measure_app = typer.Typer(help="Measure recordings.", no_args_is_help=True)
measure_app.command("tracking")(tracking)
CURVE_STEP = 4  # 48 rows an octave
LONGEST_TONE_S = 20.0


@measure_app.command("response")
def response(
    stimulus: Annotated[Path, typer.Argument(metavar="STIMULUS.wav|CURVE.csv")],
    recording: Annotated[Path | None, typer.Argument(metavar="RECORDING.wav")] = None,
    out: Out = None,
    loopback: Annotated[Path | None, typer.Option("--loopback", metavar="R.wav", help="The interface recorded alone, "
                                                  "with the same stimulus: divided out.")] = None,
    channel: Channel = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Response, cutoffs, slope, peak, polarity, latency from a stimulus (sweep, noise or stepped tones; told apart
    without asking) and its recording; or cutoffs, slope and peak from another instrument's curve (Hz, dB, degrees)."""
    from jiyuu.errors import MeasurementError

    if stimulus.suffix.lower() == ".csv":
        if recording is not None:
            raise MeasurementError("a curve is read alone; give the CSV, or a stimulus and its recording.")
        _response_of_table(stimulus, out, json)
        return
    if recording is None:
        raise MeasurementError("give the recording too, after the stimulus; or one curve as CSV.")
    from jiyuu.measurement.findings import read_response, response_findings
    from jiyuu.measurement.response import measure_response
    from jiyuu.rig.files import read_pair
    from jiyuu.wording.findings import sentence

    if out is not None:
        apart_from(out, (stimulus, recording))  # before anything is measured
    pair = read_pair(stimulus, recording, full_scale_v=full_scale_v, channel=channel)
    with in_view("Measuring"):
        measured = measure_response(pair.stimulus_v, pair.recording_v, pair.sample_rate_hz)
    began_s = pair.begins_s
    if loopback is not None:
        from jiyuu.measurement.loopback import less_interface

        alone = read_pair(stimulus, loopback, full_scale_v=full_scale_v)
        measured = less_interface(measured, measure_response(alone.stimulus_v, alone.recording_v, alone.sample_rate_hz))
        began_s -= alone.begins_s
    if pair.told:
        notice(f"jiyuu: {pair.told}")
    late = measured.latency_s
    measured = replace(measured, notices=pair.of_whole(measured.notices),
                       latency_s=replace(late, value=late.value + began_s))
    read = read_response(measured)
    if out is not None:
        text = curve_csv(measured)
        write_text(out, "\n".join([*notices_head(read.notices), text]) if read.notices else text,
                   inputs=(stimulus, recording))
    if not json:
        say_notices(read.notices)
        for finding in response_findings(measured, read):
            typer.echo(sentence(finding))
        return
    offset = measured.clock_offset_ppm
    print_json({
        **_read_values(read.reading, read.uncertainty),
        "polarity": measured.polarity,
        "latency_s": uncertain(measured.latency_s.value, measured.latency_s.uncertainty),
        "clock_offset_ppm": None if offset is None else uncertain(offset.value, offset.uncertainty),
        "noise_floor_db": measured.noise_floor_db,
        "warnings": notices_json(read.notices),
        "coherence": None if measured.coherence is None else float(np.median(measured.coherence)),
    })


def _read_values(reading: CurveReading, doubt: Mapping[str, float]) -> dict[str, object]:
    """What was read from a curve, as the command line gives it."""
    names = (
        "cutoff_3db_hz", "low_3db_hz", "high_3db_hz", "peak_hz", "peak_db", "passband_db", "slope_db_per_octave",
        "low_slope_db_per_octave", "first_octave_drop_db", "q", "notch_hz", "notch_depth_db",
    )
    return {
        "kind": reading.kind.value,
        **{name: uncertain(getattr(reading, name), doubt.get(name)) for name in names},
        "humps": [
            {"frequency_hz": h.frequency_hz, "level_db": h.level_db, "prominence_db": h.prominence_db,
             "octaves_from_cutoff": h.octaves_from_cutoff}
            for h in reading.humps
        ],
    }


def _response_of_table(path: Path, out: Path | None, json: bool) -> None:
    """What a curve says by itself: no latency, no polarity, and no uncertainty but its own."""
    from jiyuu.measurement.curve_reading import read_curve
    from jiyuu.measurement.finding import Finding
    from jiyuu.measurement.findings import READ_FROM_CURVE
    from jiyuu.measurement.smoothing import POINTS_PER_OCTAVE
    from jiyuu.signals.response_table import lines_of, on_even_grid, read_response_table
    from jiyuu.signals.table_layout import guessed
    from jiyuu.wording.findings import sentence

    layout = guessed(lines_of(path))
    curve = on_even_grid(read_response_table(path, layout), per_octave=POINTS_PER_OCTAVE)
    if not layout.plain:
        notice(f"jiyuu: {path.name} is read as: {layout.said}.")
    reading = read_curve(curve.frequency_hz, curve.level_db, level_uncertainty_db=curve.uncertainty_db)
    if out is not None:
        phase = np.zeros(curve.level_db.size) if curve.phase_deg is None else curve.phase_deg
        rows = ["frequency_hz,magnitude_db,phase_deg"]
        rows += [f"{f:.9g},{db:.9g},{deg:.9g}" for f, db, deg in
                 zip(curve.frequency_hz[::CURVE_STEP], curve.level_db[::CURVE_STEP], phase[::CURVE_STEP], strict=True)]
        write_text(out, "\n".join(rows) + "\n", inputs=(path,))
    if json:
        print_json({**_read_values(reading, {}), "polarity": None, "latency_s": None, "clock_offset_ppm": None,
                    "noise_floor_db": None, "warnings": [], "coherence": None})
        return
    for name, unit in READ_FROM_CURVE:
        if getattr(reading, name) is not None:
            typer.echo(sentence(Finding(name, getattr(reading, name), unit)))


@measure_app.command("levels")
def levels(
    recordings: Annotated[list[Path], typer.Argument(metavar="RECORDING.wav …")],
    positions: Annotated[str | None, typer.Option(
        "--positions", help="Positions of the control in %, one a recording: 0,25,50,75,100.")] = None,
    limit_v: Annotated[float, typer.Option(
        "--limit-v", parser=in_volts, help="What the next module takes, volts peak.")] = 5.0,
    full_scale_v: FullScale = 10.0,
    channel: Channel = None,
    json: Json = False,
) -> None:
    """Peak, RMS, crest, loudness and what is left to the next module's limit; with --positions also from where on it is
    overloaded, and (from 21 positions) how even the control is."""
    from jiyuu.errors import MeasurementError
    from jiyuu.measurement.levels import measure_record
    from jiyuu.measurement.notice import Fault, Notice
    from jiyuu.measurement.waveform_faults import record_at_full_scale
    from jiyuu.quantities import signed
    from jiyuu.rig.channels import louder_record
    from jiyuu.signals.recordings import read_long

    at = _positions(positions, len(recordings))
    found, notices = [], []
    for path in recordings:
        record = read_long(path, full_scale_v=full_scale_v)
        heard, chosen = louder_record(record, channel)
        notices += [] if chosen is None else [chosen]
        stands = record_at_full_scale(heard, full_scale_v)
        if stands is not None:
            first, share = stands
            notices.append(Notice(Fault.CLIPPED, first / record.sample_rate_hz, {"share_percent": 100 * share}))
        try:
            found.append(measure_record(heard, record.sample_rate_hz, limit_v=limit_v, full_scale_v=full_scale_v))
        except MeasurementError as error:
            raise MeasurementError(f"{path}: {error}") from error
    result: dict[str, Any] = {"limit_v": limit_v, "warnings": notices_json(tuple(notices)), "recordings": [
        {
            "file": str(path), "position_percent": None if at is None else float(at[i]), "peak_v": one.peak_v,
            "rms_v": one.rms_v, "crest_db": one.crest_db, "dc_v": one.dc_v, "loudness_lufs": one.loudness_lufs,
            "headroom_db": one.headroom_db, "over_share": one.over_share, "first_over_s": one.first_over_s,
            "trim_db": one.trim_db,
            "output_change_db": float(20 * np.log10(max(one.rms_v, 1e-12) / max(found[0].rms_v, 1e-12))),
        }
        for i, (path, one) in enumerate(zip(recordings, found, strict=True))
    ]}
    result.update(result["recordings"][0] if len(found) == 1 else {})
    if at is not None:
        result.update(_over_the_control(at, np.array([one.peak_v for one in found]),
                                        np.array([one.rms_v for one in found]), limit_v))
    if json:
        print_json(result)
        return
    say_notices(tuple(notices))
    for one in result["recordings"]:
        place = "" if one["position_percent"] is None else f"{one['position_percent']:g} %: "
        loud = "" if one["loudness_lufs"] is None else f", {signed(one['loudness_lufs'])} LUFS"
        margin = (f"{one['headroom_db']:.1f} dB under" if one["headroom_db"] >= 0
                  else f"{-one['headroom_db']:.1f} dB over, trim −{-one['trim_db']:.1f} dB;")
        typer.echo(f"{place}{one['peak_v']:.3f} V peak, {one['rms_v']:.3f} V RMS{loud}; {margin} ±{limit_v:g} V.")


def _positions(text: str | None, count: int) -> FloatArray | None:
    from jiyuu.errors import MeasurementError

    if text is None:
        return None
    try:
        found = np.array([float(part) for part in text.split(",")])
    except ValueError as error:
        raise MeasurementError(f"--positions '{text}' are not numbers; write for example 0,25,50,75,100.") from error
    if found.size != count:
        raise MeasurementError(f"--positions names {found.size} and there are {count} recordings; give one for each.")
    if not np.isfinite(found).all() or found.min() < 0 or found.max() > 100 or (np.diff(found) <= 0).any():
        raise MeasurementError("--positions must rise from one recording to the next, within 0 to 100 %.")
    return found


def _over_the_control(at: FloatArray, peak_v: FloatArray, rms_v: FloatArray, limit_v: float) -> dict[str, object]:
    """Overload over the travel, and the taper where there are positions enough."""
    from jiyuu.errors import MeasurementError
    from jiyuu.measurement.resonance_curves import overload
    from jiyuu.measurement.taper import read_taper

    over = overload(at, peak_v, limit_v)
    result: dict[str, object] = {
        "overload_from_percent": over.from_percent, "highest_v": over.highest_v,
        "highest_percent": over.highest_percent, "trim_db": over.trim_db, "taper": None,
    }
    try:
        taper = read_taper(at, 20 * np.log10(np.maximum(rms_v, 1e-12)))
    except MeasurementError:
        return result
    result["taper"] = {
        "evenness": taper.evenness, "steepest_percent": taper.steepest_percent, "dead_percent": taper.dead_percent,
        "dead": [{"from_percent": d.from_percent, "to_percent": d.to_percent} for d in taper.dead],
    }
    return result


def curve_csv(measured: MeasuredResponse) -> str:
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
    concert_a: Annotated[float, typer.Option("--concert-a", parser=in_hertz, help="Frequency of A4, Hz.")] = 440.0,
    channel: Channel = None,
    json: Json = False,
) -> None:
    """Frequency, note, level, distortion of a steady tone."""
    from jiyuu.errors import MeasurementError
    from jiyuu.measurement.tone_faults import read_tone
    from jiyuu.measurement.tuner import beating_in
    from jiyuu.quantities import shown_hz, signed
    from jiyuu.rig.channels import channel_of
    from jiyuu.signals.recordings import read_recording

    if not 200 <= concert_a <= 900:
        raise MeasurementError(f"--concert-a {concert_a:g} is out of range; give 200 to 900 Hz.")
    record = read_recording(recording, full_scale_v=full_scale_v, at_most_s=LONGEST_TONE_S)
    if record.cut_short:
        notice(f"jiyuu: only the first {LONGEST_TONE_S:.0f} s of {recording} are read; a steady tone needs no more.")
    record_v, chosen = channel_of(record, None, channel)
    with in_view("Measuring"):
        found, faults = read_tone(record_v, record.sample_rate_hz, concert_a_hz=concert_a)
        beats = beating_in(record_v, record.sample_rate_hz)
    notices = (*(() if chosen is None else (chosen,)), *faults)
    if json:
        print_json({
            "frequency_hz": uncertain(found.frequency_hz.value, found.frequency_hz.uncertainty),
            "note": found.note, "cents": found.cents, "amplitude_peak_v": found.amplitude_peak_v,
            "dc_v": found.dc_v, "thd_percent": found.thd_percent, "thd_n_percent": found.thd_n_percent,
            "harmonics_db": list(found.harmonics_db), "warnings": notices_json(notices),
            "beating": None if beats is None else {
                "rate_hz": beats.rate_hz.value, "uncertainty_hz": beats.rate_hz.uncertainty,
                "first_hz": beats.first_hz, "second_hz": beats.second_hz, "second_level_db": beats.level_db,
            },
        })
        return
    say_notices(notices)
    typer.echo(
        f"{shown_hz(found.frequency_hz.value)}, {found.note} {signed(found.cents)} cents, "
        f"{found.amplitude_peak_v:.4g} V peak, THD {found.thd_percent:.3g} %."
    )
    if beats is not None:
        typer.echo(f"A second tone at {shown_hz(beats.second_hz)} beats with it {beats.rate_hz.value:.2f} times a "
                   "second: the numbers above are of both together.")
