"""'jiyuu stimulus …': what is played through a real unit, as a file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jiyuu.cli.options import FullScale, in_seconds, in_volts, notice
from jiyuu.errors import SignalError

stimulus_app = typer.Typer(help="Write a stimulus to be played through a real unit.", no_args_is_help=True)
OutWav = Annotated[Path, typer.Argument(metavar="OUT.wav")]
Rate = Annotated[int, typer.Option("--rate", help="Sample rate, Hz.")]


@stimulus_app.command("sweep")
def sweep(
    out: OutWav,
    rate: Rate = 48_000,
    level_v: Annotated[float, typer.Option("--level-v", parser=in_volts, help="Peak level, volts.")] = 5.0,
    seconds: Annotated[float, typer.Option("--seconds", parser=in_seconds, help="Length of one sweep.")] = 5.0,
    full_scale_v: FullScale = 10.0,
) -> None:
    """Two identical exponential sweeps with silence around them."""
    from jiyuu.signals.sweep import SweepPlan, sweep_stimulus

    _check(rate, level_v, full_scale_v)
    if not 0.5 <= seconds <= 120:
        raise SignalError(f"--seconds {seconds:g} is out of range; give 0.5 to 120.")
    plan = SweepPlan(level_v=level_v, sweep_s=seconds, to_hz=min(21_500.0, 0.46 * rate))
    record = sweep_stimulus(plan, sample_rate_hz=rate)
    _write(out, record, rate, full_scale_v, "a sweep reaches the ear's sharpest band")


@stimulus_app.command("noise")
def noise(
    out: OutWav,
    rate: Rate = 48_000,
    level_v: Annotated[float, typer.Option(
        "--level-v", parser=in_volts, help="RMS level, volts; peaks reach four times that.")] = 1.0,
    seconds: Annotated[float, typer.Option("--seconds", parser=in_seconds, help="Length of one passage.")] = 5.0,
    white: Annotated[bool, typer.Option("--white", help="White instead of pink.")] = False,
    full_scale_v: FullScale = 10.0,
) -> None:
    """The same noise twice with silence around it, for 'measure response' with coherence."""
    from jiyuu.signals.stimuli import noise_stimulus

    _check(rate, level_v, full_scale_v)
    if not 1 <= seconds <= 120:
        raise SignalError(f"--seconds {seconds:g} is out of range; give 1 to 120.")
    record = noise_stimulus(level_v=level_v, sample_rate_hz=rate, duration_s=seconds, pink=not white)
    _write(out, record, rate, full_scale_v, "noise is loud in every band at once")


@stimulus_app.command("tones")
def tones(
    out: OutWav,
    rate: Rate = 48_000,
    level_v: Annotated[float, typer.Option("--level-v", parser=in_volts, help="Peak level, volts.")] = 5.0,
    per_octave: Annotated[int, typer.Option("--per-octave", help="Tones in an octave.")] = 12,
    full_scale_v: FullScale = 10.0,
) -> None:
    """Tones from 20 Hz to 20 kHz one after the other, for 'measure response'."""
    from jiyuu.signals.stimuli import tones_stimulus

    _check(rate, level_v, full_scale_v)
    if not 3 <= per_octave <= 48:
        raise SignalError(f"--per-octave {per_octave} is out of range; give 3 to 48.")
    record = tones_stimulus(level_v=level_v, sample_rate_hz=rate, per_octave=per_octave)
    _write(out, record, rate, full_scale_v, "tones near 3 kHz are the sharpest to the ear")


@stimulus_app.command("steps")
def steps(
    out: OutWav,
    rate: Rate = 48_000,
    volts: Annotated[str, typer.Option("--volts", help="Control volts in order: 0,1,2,3 or 0:8:1.")] = "0:8:1",
    seconds: Annotated[float, typer.Option("--seconds", parser=in_seconds, help="Length of a step.")] = 1.0,
    full_scale_v: FullScale = 10.0,
) -> None:
    """A staircase of control volts, for 'measure tracking': play it from a DC-coupled output into the 1 V/octave input
    while the filter whistles."""
    import numpy as np

    from jiyuu.cli.tracking import parse_volts
    from jiyuu.signals.stimuli import steps_stimulus

    found = np.array(parse_volts(volts))
    _check(rate, float(np.abs(found).max(initial=0.0)) or full_scale_v, full_scale_v)
    if not 0.3 <= seconds <= 120:
        raise SignalError(f"--seconds {seconds:g} is out of range; give 0.3 to 120.")
    record = steps_stimulus(found, sample_rate_hz=rate, step_s=seconds)
    _write(out, record, rate, full_scale_v, "it holds DC: only into a control input, never into a loudspeaker")


def _check(rate: int, level_v: float, full_scale_v: float) -> None:
    from jiyuu.signals.recordings import HIGHEST_RATE_HZ, LOWEST_RATE_HZ

    if not LOWEST_RATE_HZ <= rate <= HIGHEST_RATE_HZ:
        raise SignalError(f"--rate {rate} is out of range; give {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz.")
    if not 0 < level_v <= full_scale_v:
        raise SignalError(f"--level-v {level_v:g} is out of range; give more than 0 and at most {full_scale_v:g}.")


def _write(out: Path, record: object, rate: int, full_scale_v: float, caution: str) -> None:
    import numpy as np

    from jiyuu.signals.recordings import write_recording

    volts = np.asarray(record)
    write_recording(out, volts, rate, full_scale_v=full_scale_v)
    notice(f"{out}: {volts.size / rate:.1f} s; keep the level low at first, {caution}.")
