"""The commands: arguments in, a core function, its result out."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

import typer

from jiyuu.cli.books import exchange, recover, report, validate
from jiyuu.cli.character import character, compare
from jiyuu.cli.controls import controls
from jiyuu.cli.design import design
from jiyuu.cli.drive import drive, measure_drive_of, stimulus_drive
from jiyuu.cli.identify import identify
from jiyuu.cli.install_desktop import install_desktop
from jiyuu.cli.masking import masking
from jiyuu.cli.measure import measure_app
from jiyuu.cli.options import (
    Chosen,
    Cutoff,
    DriveDb,
    FilterArgument,
    FullScale,
    Json,
    Mode,
    Out,
    PatchSettings,
    Q,
    Resonance,
    ResonanceGain,
    Set,
    at_control,
    choose,
    in_seconds,
    notice,
    print_json,
    typed,
)
from jiyuu.cli.pings import measure_ping, stimulus_pings
from jiyuu.cli.settling import measure_settling_of
from jiyuu.cli.sidebands import measure_sidebands
from jiyuu.cli.stimulus import stimulus_app
from jiyuu.errors import CircuitError, SignalError
from jiyuu.patch.file_kind import is_patch
from jiyuu.whole_file import write_text

if TYPE_CHECKING:  # imported late elsewhere, to keep --help quick
    from jiyuu.arrays import ComplexArray, FloatArray
    from jiyuu.bench.standing import Standing
    from jiyuu.circuits.linear import Response

app = typer.Typer(
    name="jiyuu", context_settings={"help_option_names": ["-h", "--help"]}, no_args_is_help=False,
    pretty_exceptions_enable=False, rich_markup_mode=None,
    help="A bench for voltage-controlled filters. Without a command: the window ('jiyuu --demo', 'jiyuu BOOK').",
)


@app.callback(invoke_without_command=True)
def about(
    version: Annotated[bool, typer.Option("--version", help="Say which version this is.", is_eager=True)] = False,
) -> None:
    """What holds for every command."""
    if version:
        from jiyuu import __version__

        typer.echo(f"jiyuu {__version__}")
        raise typer.Exit


app.command("validate")(validate)
app.command("exchange")(exchange)
app.command("recover")(recover)
app.command("report")(report)
app.command("install-desktop")(install_desktop)
app.command("character")(character)
app.command("compare")(compare)
app.command("identify")(identify)
app.command("design")(design)
app.command("masking")(masking)
app.command("drive")(drive)
app.command("controls")(controls)
measure_app.command("drive")(measure_drive_of)
stimulus_app.command("drive")(stimulus_drive)
measure_app.command("ping")(measure_ping)
measure_app.command("settling")(measure_settling_of)
measure_app.command("sidebands")(measure_sidebands)
stimulus_app.command("pings")(stimulus_pings)
app.add_typer(measure_app, name="measure")
app.add_typer(stimulus_app, name="stimulus")


@app.command()
def man() -> None:
    """The manual page: 'jiyuu man | man -l -'."""
    from typer.main import get_command

    from jiyuu.cli.man import Group, manual

    typer.echo(manual(cast(Group, get_command(app)), name="jiyuu"), nl=False)


@app.command()
def circuits(json: Json = False) -> None:
    """List the circuits, their modes and parameters."""
    from jiyuu.circuits.catalogue import circuits as catalogue

    entries = [
        {
            "id": entry.id, "title": entry.title, "poles": entry.poles, "modes": list(entry.modes),
            "onset_gain": entry.onset_gain, "explanation": entry.explanation,
            "parameters": [
                {"name": p.name, "unit": p.unit, "default": p.default, "min": p.minimum, "max": p.maximum,
                 "meaning": p.meaning}
                for p in entry.parameters
            ],
        }
        for entry in catalogue().values()
    ]
    if json:
        print_json({"circuits": entries})
        return
    for entry in catalogue().values():
        onset_text = "none" if entry.onset_gain is None else f"k = {entry.onset_gain:.4g}"
        typer.echo(f"{entry.id:22}{entry.poles} poles, oscillates from {onset_text}; modes: {', '.join(entry.modes)}")


@app.command()
def respond(
    filter: FilterArgument,
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    q: Q = None,
    lowest: Annotated[str, typer.Option("--from", help="Lowest frequency: 20, 1k2, A4.")] = "20",
    highest: Annotated[str, typer.Option("--to", help="Highest frequency.")] = "20k",
    points: Annotated[int, typer.Option("--points", help="Number of rows, logarithmic.")] = 481,
    level: Annotated[str | None, typer.Option("--level-v", help="Drive, volts peak: first harmonic there.")] = None,
    at: Annotated[str | None, typer.Option("--at", help="A moment of what moves in a patch, s; else at rest.")] = None,
    json: Json = False,
    out: Annotated[Path | None, typer.Option("--out", help="File to write: .csv, .json, .svg or .png.")] = None,
) -> None:
    """Response: frequency, magnitude, unwrapped phase, group delay; small-signal, or at a level."""
    import numpy as np

    from jiyuu.circuits.linear import level_db, response
    from jiyuu.cli.curves import Curve, deliver
    from jiyuu.quantities import parse_frequency

    from_hz, to_hz = parse_frequency(lowest), parse_frequency(highest)
    if not (0 < from_hz < to_hz <= 1e7 and np.isfinite(to_hz)):
        raise CircuitError(f"the range {from_hz:g} to {to_hz:g} Hz is invalid; give --from below --to, above 0.")
    if not 2 <= points <= 1_000_000:
        raise CircuitError(f"--points {points} is out of range; give 2 to 1000000.")
    frequency_hz = np.geomspace(from_hz, to_hz, points)
    if is_patch(filter):
        from jiyuu.cli import patches

        if q is not None or level is not None:
            raise CircuitError("--q and --level-v are for a filter, not for a patch; leave them away.")
        asked = PatchSettings(mode, cutoff, resonance_gain, resonance, drive_db, tuple(set or ()))
        patches.respond(filter, asked, frequency_hz, at=at, as_json=json, out=out)
        return
    if at is not None:
        raise CircuitError("--at is for a patch, in which something moves; leave it away.")
    chosen = choose(
        filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance, drive_db=drive_db,
        settings=set, q=q,
    )
    standing = chosen.standing
    found = response(
        standing.network, frequency_hz, cutoff_hz=standing.cutoff_hz, gain=standing.gain, modes=[standing.mode]
    )
    gains, phase_deg, delay_s = found.gain[0], found.phase_deg[0], found.group_delay_s[0]
    if level is not None:
        level_v = typed(level, "--level-v", "V", 0, 1000)
        if level_v == 0:
            raise CircuitError("--level-v 0 is out of range; give more than 0 and at most 1000 V.")
        gains, phase_deg, delay_s = _at_level(standing, found, level_v)
    curve = Curve(f"{standing.document.name}, {standing.mode}", frequency_hz, level_db(gains * standing.drive),
                  phase_deg, delay_s)
    deliver(curve, out, as_json=json, inputs=chosen.files)


def _at_level(standing: Standing, small: Response, level_v: float) -> tuple[ComplexArray, FloatArray, FloatArray]:
    """First-harmonic gain; phase and group delay by what they differ from the small-signal ones."""
    import numpy as np

    from jiyuu.simulation.level_response import level_response

    found = level_response(
        standing.network, small.frequency_hz, cutoff_hz=standing.cutoff_hz, gain=standing.gain,
        level_v=level_v * standing.drive, modes=[standing.mode],
    )
    restless = int((~found.settled).sum())
    if restless:
        notice(f"{restless} of {small.frequency_hz.size} frequencies did not settle: the filter adds tones there.")
    apart = np.unwrap(np.angle(found.gain[0] / small.gain[0]))
    delay = small.group_delay_s[0] - np.gradient(apart, 2 * np.pi * small.frequency_hz)
    return found.gain[0], small.phase_deg[0] + np.rad2deg(apart), delay


@app.command()
def oscillate(
    filter: FilterArgument,
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    set: Set = None,
    json: Json = False,
) -> None:
    """Self-oscillation: onset, and the settled tone at a resonance (the end of the control when none is given)."""
    import math

    from jiyuu.circuits.linear import onset
    from jiyuu.quantities import note_and_cents, shown_hz, signed
    from jiyuu.simulation.oscillation import oscillation

    full = "100" if resonance is None and resonance_gain is None else resonance
    chosen = choose(
        filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=full, settings=set
    )
    standing = chosen.standing
    network = standing.network
    start = onset(network, cutoff_hz=standing.cutoff_hz)
    tone = oscillation(network, standing.mode, cutoff_hz=standing.cutoff_hz, gain=standing.gain)
    result: dict[str, object] = {
        "oscillates": tone is not None, "onset_gain": None if start is None else start.gain, "gain": standing.gain,
        "frequency_hz": None, "cents_from_cutoff": None, "amplitude_peak_v": None, "thd_percent": None,
        "start_up_s": None,
    }
    if tone is not None:
        cents = 1200 * math.log2(tone.frequency_hz / standing.cutoff_hz)
        result |= {
            "frequency_hz": tone.frequency_hz, "cents_from_cutoff": cents, "amplitude_peak_v": tone.amplitude_peak_v,
            "thd_percent": tone.thd_percent, "start_up_s": tone.start_up_s,
        }
    if json:
        print_json(result)
        return
    begins = "never" if start is None else f"from k = {start.gain:.4g}"
    if tone is None:
        typer.echo(f"At k = {standing.gain:.4g} it does not oscillate by itself; it does {begins}.")
        return
    note, off = note_and_cents(tone.frequency_hz)
    typer.echo(
        f"Oscillates {begins}. At k = {standing.gain:.4g}: {shown_hz(tone.frequency_hz)} ({note} {signed(off)} cents, "
        f"{signed(cents)} cents from the cutoff), {tone.amplitude_peak_v:.4g} V peak, THD {tone.thd_percent:.3g} %, "
        f"started within {1e3 * tone.start_up_s:.3g} ms."
    )
    notice("Self-oscillation can jump to full level: start low.")


@app.command()
def netlist(
    filter: FilterArgument,
    out: Out = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    set: Set = None,
) -> None:
    """The circuit as text for a general circuit simulator (SPICE format)."""
    from jiyuu.circuits.netlist import netlist_text

    chosen = choose(
        filter, mode=None, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance, settings=set
    )
    standing = chosen.standing
    text = netlist_text(
        standing.document.entry, standing.network, title=standing.document.name, cutoff_hz=standing.cutoff_hz,
        gain=standing.gain,
    )
    _deliver(text, out, chosen)


@app.command()
def render(
    filter: FilterArgument,
    input_wav: Annotated[Path, typer.Argument(metavar="IN.wav")],
    output_wav: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    full_scale_v: FullScale = 10.0,
    cutoff_cv: Annotated[Path | None, typer.Option("--cutoff-cv", help="WAV of volts at 1 V/octave.")] = None,
    resonance_cv: Annotated[Path | None, typer.Option("--resonance-cv", help="WAV of volts.")] = None,
    resonance_cv_gain: Annotated[float, typer.Option("--resonance-cv-gain", help="Loop gain per volt.")] = 1.0,
    block: Annotated[int | None, typer.Option("--block", help="Of a patch: samples played at a time.")] = None,
    duration: Annotated[str | None, typer.Option("--duration", help="Of a patch with '-' for IN: seconds.")] = None,
    rate: Annotated[int, typer.Option("--rate", help="Of a patch with '-' for IN: sample rate.")] = 48_000,
) -> None:
    """Large-signal output of a filter or a patch for a recording; '-' for IN: a patch's own sources."""
    if is_patch(filter):
        from jiyuu.cli import patches

        if cutoff_cv is not None or resonance_cv is not None:
            raise SignalError("--cutoff-cv and --resonance-cv are for a filter, not for a patch; leave them away.")
        asked = PatchSettings(mode, cutoff, resonance_gain, resonance, drive_db, tuple(set or ()))
        patches.render(filter, asked, input_wav, output_wav, full_scale_v=full_scale_v, block=block,
                       duration=duration, rate=rate)
        return
    from jiyuu.cli.rendering import render_filter
    chosen = choose(
        filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance, drive_db=drive_db,
        settings=set,
    )
    render_filter(chosen, input_wav, output_wav, full_scale_v=full_scale_v, cutoff_cv=cutoff_cv,
                  resonance_cv=resonance_cv, resonance_cv_gain=resonance_cv_gain)


@app.command()
def characterise(
    filter: FilterArgument,
    out: Annotated[Path, typer.Option("--out", help="Folder for the results.")],
    seed: Annotated[int, typer.Option("--seed", help="Which build of the filter is on the simulated rig.")] = 1,
    mode: Mode = None,
    cutoff: Cutoff = None,
    resonance_gain: ResonanceGain = None,
    resonance: Resonance = None,
    drive_db: DriveDb = "0",
    set: Set = None,
    sweep_s: Annotated[float | None, typer.Option(
        "--sweep-s", parser=in_seconds, help="Seconds of each sweep of the responses; 5 when not given.")] = None,
    positions: Annotated[int | None, typer.Option("--positions", help="Of the resonance control, at which it is swept; "
                                                  "21 when not given.")] = None,
    json: Json = False,
) -> None:
    """The whole walk on the simulated rig, into a folder. A broken run goes on where it stopped."""
    from jiyuu.cli.characterise import asked_of_steps
    from jiyuu.cli.characterise import characterise as walk

    chosen = choose(
        filter, mode=mode, cutoff=cutoff, resonance_gain=resonance_gain, resonance=resonance, drive_db=drive_db,
        settings=set,
    )
    standing = chosen.standing
    if not 0 <= seed < 2**63:
        raise CircuitError(f"--seed {seed} is out of range; give 0 or more.")
    asked = asked_of_steps({"response": {"sweep_s": sweep_s}, "resonance": {"positions": positions}})
    summary = walk(at_control(standing), seed=seed, folder=out, only_mode=mode is not None, asked=asked,
                   inputs=chosen.files)
    if json:
        print_json(summary)
    else:
        typer.echo(f"{out}: findings.json, report.html, report.pdf and the curves as CSV.")


def _deliver(text: str, out: Path | None, chosen: Chosen) -> None:
    if out is None:
        typer.echo(text, nl=False)
    else:
        write_text(out, text, inputs=chosen.files)
