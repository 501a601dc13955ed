"""'jiyuu stimulus pings' and 'measure ping': a filter struck, and how it rings."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from jiyuu.cli.options import (
    Channel,
    FullScale,
    Json,
    in_milliseconds,
    in_seconds,
    in_volts,
    notice,
    print_json,
    say_notices,
    uncertain,
)
from jiyuu.cli.waiting import in_view
from jiyuu.errors import SignalError

if TYPE_CHECKING:
    from jiyuu.measurement.ping import Ping
    from jiyuu.measurement.struck_scale import StruckScale
    from jiyuu.measurement.uncertain import Uncertain


def stimulus_pings(
    out: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    length_ms: Annotated[float, typer.Option("--length-ms", parser=in_milliseconds, help="Of one pulse.")] = 0.5,
    level_v: Annotated[float, typer.Option("--level-v", parser=in_volts, help="Volts of a pulse, signed.")] = 5.0,
    every_s: Annotated[float, typer.Option("--every-s", parser=in_seconds, help="From one pulse to the next.")] = 1.0,
    count: Annotated[int, typer.Option("--count", help="How many.")] = 5,
    rate: Annotated[int, typer.Option("--rate", help="Sample rate, Hz.")] = 48_000,
    full_scale_v: FullScale = 10.0,
) -> None:
    """Pulses with silence between, for 'measure ping'."""
    from jiyuu.signals.pings import ping_stimulus
    from jiyuu.signals.recordings import HIGHEST_RATE_HZ, LOWEST_RATE_HZ, write_recording

    if not LOWEST_RATE_HZ <= rate <= HIGHEST_RATE_HZ:
        raise SignalError(f"--rate {rate} is out of range; give {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz.")
    record = ping_stimulus(length_s=length_ms / 1000, level_v=level_v, every_s=every_s, count=count,
                           sample_rate_hz=float(rate))
    write_recording(out, record, rate, full_scale_v=full_scale_v)
    if abs(level_v) > full_scale_v:
        notice(f"jiyuu: {level_v:.3g} V lies past full scale, {full_scale_v:g} V: an interface clips it; state the "
               "volts that yours plays with --full-scale-v, or give a lower --level-v.")
    notice(f"{out}: {record.size / rate:.1f} s; keep the level low at first: a click is loud in a loudspeaker.")


def measure_ping(
    stimulus: Annotated[Path, typer.Argument(metavar="STIMULUS.wav")],
    recording: Annotated[Path, typer.Argument(metavar="RECORDING.wav")],
    scale: Annotated[str, typer.Option("--scale", help="The notes that the pulses were to ring on, in their order: "
                                       "'C3 E3 G3', hertz, or ratios and cents over the first.")] = "",
    channel: Channel = None,
    full_scale_v: FullScale = 10.0,
    json: Json = False,
) -> None:
    """Pitch, decay, Q, first peak, pedestal and rebound of a filter struck by what 'stimulus pings' wrote."""
    from jiyuu.measurement.ping import measure_pings
    from jiyuu.measurement.struck_scale import scale_finding, struck_scale
    from jiyuu.quantities import parse_scale
    from jiyuu.rig.files import read_pair
    from jiyuu.signals.pings import pings_in
    from jiyuu.wording.findings import learn, sentence
    from jiyuu.wording.modulation import QUANTITIES
    from jiyuu.wording.notices import notices_json

    pair = read_pair(stimulus, recording, full_scale_v=full_scale_v, channel=channel)
    with in_view("Measuring"):
        found = measure_pings(pair.recording_v, pair.sample_rate_hz, pings_in(pair.stimulus_v, pair.sample_rate_hz),
                              full_scale_v=full_scale_v)
    on = struck_scale(found.pings, parse_scale(scale)) if scale.strip() else None
    if pair.told:
        notice(f"jiyuu: {pair.told}")
    notices = pair.of_whole(found.notices)
    pings = [replace(ping, at_s=ping.at_s + pair.begins_s) for ping in found.pings]
    if json:
        print_json({"pings": [_ping_json(ping) for ping in pings],
                    **({} if on is None else {"scale": _scale_json(on)}), "warnings": notices_json(notices)})
        return
    say_notices(notices)
    for ping in pings:
        peak = "nothing heard" if ping.first_peak_v is None else f"first peak {_said(ping.first_peak_v, 'V')}"
        ring = "no ring" if ping.frequency_hz is None or ping.t60_s is None or ping.q is None else (
            f"rings at {_said(ping.frequency_hz, 'Hz')}, T60 {_said(ping.t60_s, 's')}, Q {_said(ping.q, '')}".rstrip())
        beside = "" if ping.pedestal_v is None else (
            f", pedestal {ping.pedestal_v:.3g} V, rebound {ping.rebound_v or 0.0:.3g} V")
        typer.echo(f"{ping.at_s:8.4f} s: {peak}, {ring}{beside}")
    for note in () if on is None else on.notes:
        off = "no ring" if note.off_cents is None else f"off by {_said(note.off_cents, 'cents')}"
        typer.echo(f"{note.note_hz:9.2f} Hz: {off}")
    if on is not None:
        learn(QUANTITIES)
        typer.echo(sentence(scale_finding(on)))


def _said(value: Uncertain, unit: str) -> str:
    return f"{value.value:.5g} ± {value.uncertainty:.2g} {unit}"


def _scale_json(on: StruckScale) -> dict[str, object]:
    return {
        "turn_cents": on.turn_cents, "notes": [
            {"note_hz": note.note_hz, "off_cents": _stated(note.off_cents), "left_cents": note.left_cents}
            for note in on.notes],
    }


def _stated(value: Uncertain | None) -> dict[str, float | None] | None:
    return None if value is None else uncertain(value.value, value.uncertainty)


def _ping_json(ping: Ping) -> dict[str, object]:
    return {
        "at_s": ping.at_s, "frequency_hz": _stated(ping.frequency_hz), "t60_s": _stated(ping.t60_s),
        "q": _stated(ping.q), "first_peak_v": _stated(ping.first_peak_v), "polarity": ping.polarity or None,
        "pedestal_v": ping.pedestal_v, "rebound_v": ping.rebound_v,
    }
