"""What the commands share: the filter named on the command line, its settings, output."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.patch.file_kind import is_patch
from jiyuu.quantities import parse_frequency, parse_number

if TYPE_CHECKING:
    from jiyuu.bench.standing import Standing
    from jiyuu.measurement.notice import Notice

FilterArgument = Annotated[str, typer.Argument(metavar="FILTER", help="Catalogue id, *.filter.json or *.patch.json.")]
Mode = Annotated[str | None, typer.Option("--mode", help="Output of the circuit; the first one when not given.")]
Cutoff = Annotated[str | None, typer.Option("--cutoff", help="Pole frequency: 1k2, 440, A4 or 0.5V (1 V/octave).")]
ResonanceGain = Annotated[float | None, typer.Option("--resonance-gain", help="Resonance as loop gain k.")]
Resonance = Annotated[str | None, typer.Option("--resonance", help="Resonance in % of the control's travel.")]
Q = Annotated[float | None, typer.Option("--q", help="Resonance as the Q of the pole pair that rings.")]
DriveDb = Annotated[str, typer.Option("--drive-db", help="Gain ahead of the filter, dB.")]
Set = Annotated[list[str] | None, typer.Option("--set", help="name=value of a circuit parameter; repeatable.")]
Json = Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")]
Out = Annotated[Path | None, typer.Option("--out", help="File to write.")]
Channel = Annotated[str | None, typer.Option("--channel", help="left or right, where a recording has two.")]


def in_unit(unit: str, example: str) -> Callable[[str | float], float]:
    """Reads a number with or without its unit: '500mV' and '0.5' where unit is V. It raises JiyuuError."""
    scale, base = (1000.0, "s") if unit == "ms" else (1.0, unit)

    def parsed(text: str | float) -> float:
        if isinstance(text, float):  # what stands there when nothing was given
            return text
        value, given = parse_number(text)
        if given not in ("", base):
            raise JiyuuError(f"'{text}' is not in {unit}; type for example {example}.")
        return value * scale if given else value

    parsed.__name__ = unit
    return parsed


def in_hertz(text: str | float) -> float:
    """A frequency as it is typed everywhere else: 440, 1k2, A4."""
    return text if isinstance(text, float) else parse_frequency(text)


in_volts, in_seconds = in_unit("V", "0.5, 0.5V or 500mV"), in_unit("s", "2, 2s or 500ms")
in_milliseconds, in_cents = in_unit("ms", "0.5, 0.5ms or 1s"), in_unit("cents", "5 or 5cents")
FullScale = Annotated[float, typer.Option("--full-scale-v", parser=in_volts, help="Volts of a full-scale sample.")]


def say_notices(notices: Iterable[Notice]) -> None:
    """What is wrong with a recording, on standard error."""
    from jiyuu.wording.notices import notices_json

    for entry in notices_json(tuple(notices)):
        typer.echo(f"jiyuu: {entry['sentence']}", err=True)


@dataclass(frozen=True, slots=True)
class PatchSettings:
    """What options ask of a patch: mode, cutoff and resonance of its first filter, `settings` of any stage."""

    mode: str | None = None
    cutoff: str | None = None
    resonance_gain: float | None = None
    resonance: str | None = None
    drive_db: str = "0"
    settings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Chosen:
    """A filter with its settings in force, and the files it was read from, which nothing may be written onto."""

    standing: Any  # jiyuu.bench.standing.Standing, imported late to keep --help quick
    files: tuple[Path, ...] = ()


def choose(
    name: str,
    *,
    mode: str | None,
    cutoff: str | None,
    resonance_gain: float | None,
    resonance: str | None,
    drive_db: str = "0",
    settings: Iterable[str] | None,
    q: float | None = None,
) -> Chosen:
    """The filter of a catalogue id or file with the options applied. Raises CircuitError."""
    from jiyuu.bench.standing import Standing
    from jiyuu.circuits.catalogue import circuits
    from jiyuu.circuits.circuit import checked_cutoff, checked_gain
    from jiyuu.circuits.filter_file import neutral_filter, read_filter

    if is_patch(name):
        return _chosen_patch(name, PatchSettings(mode, cutoff, resonance_gain, resonance, drive_db,
                                                 tuple(settings or ())), q)
    files: tuple[Path, ...]
    if name in circuits():
        document, files = neutral_filter(name), ()
    elif name.endswith(".json") or "/" in name or is_file(name):
        document, files = read_filter(Path(name)), (Path(name),)
    else:
        raise CircuitError(
            f"there is no circuit '{short(name)}' and no file of that name; choose one of: {', '.join(circuits())}."
        )
    if sum(given is not None for given in (resonance_gain, resonance, q)) > 1:
        raise CircuitError("give --resonance-gain or --resonance, not both." if q is None else
                           "give one of --q, --resonance-gain and --resonance.")
    percent = document.resonance_percent if resonance is None else typed(resonance, "--resonance", "%", 0, 100)
    parameters = {**document.parameters, **dict(_pairs(settings or []))}
    document.entry.values(parameters)
    standing = Standing(
        document, document.entry.mode(mode if mode is not None else document.mode),
        checked_cutoff(document.cutoff_hz if cutoff is None else parse_frequency(cutoff)), percent, parameters,
        document.components, loop_gain=None if resonance_gain is None else checked_gain(resonance_gain),
    )
    standing = _ringing(standing, q)
    drive = typed(drive_db, "--drive-db", "dB", -120, 120)
    checked_gain(standing.gain)
    # A drive past what the Setup step offers is still a drive: the command line is not bound to its range.
    setup = standing.setup.model_copy(update={"drive_db": drive})
    return Chosen(replace(standing, setup=setup), files)


def at_control(standing: Standing) -> Standing:
    """With its loop gain at the position of the control that gives it: a panel has a position, no loop gain. Raises
    CircuitError for one past the end."""
    if standing.loop_gain is None:
        return standing
    percent = standing.filter.percent_at(standing.loop_gain)
    if percent > 100:
        raise CircuitError(f"--resonance-gain {standing.loop_gain:g} lies past the end of the control, which is "
                           f"{standing.full_gain:g}; give less.")
    return replace(standing, resonance_percent=percent, loop_gain=None)


def _ringing(standing: Standing, q: float | None) -> Standing:
    """With the loop gain of a Q, where one is asked."""
    from jiyuu.circuits.circuit import checked_gain
    from jiyuu.circuits.linear import gain_of_q

    if q is None:
        return standing
    gain = gain_of_q(standing.network, q, cutoff_hz=standing.standing_hz)
    return replace(standing, loop_gain=checked_gain(gain))


def _chosen_patch(name: str, asked: PatchSettings, q: float | None) -> Chosen:
    """A patch as one filter: its first one in hand, everything else round it."""
    from jiyuu.bench.patched import taken
    from jiyuu.bench.standing import Standing
    from jiyuu.cli.patches import chosen_patch

    patch, files = chosen_patch(name, asked)
    found = taken(patch)
    setup = Standing.of(found.document, found.kept).setup
    left = [*([f"the {setup.ahead[-1].stage} ahead of the filter and what comes before it"] if setup.ahead else []),
            *([f"the {setup.behind[0].stage} behind the filter and what follows it"] if setup.behind else [])]
    if left:
        notice(f"jiyuu: not counted: {', '.join(left)}; respond and render take all of the patch.")
    return Chosen(_ringing(Standing.of(found.document, found.kept), q), files)


def typed(text: str, name: str, unit: str, low: float, high: float) -> float:
    """A number with or without its unit: '50', '50 %', '-6dB', '2V'. Raises CircuitError naming the range."""
    try:
        value, given = parse_number(text)
    except JiyuuError:
        try:
            value, given = float(text), ""
        except ValueError as error:
            raise CircuitError(f"{name} '{text}' is not a number; give for example {low:g} {unit}.") from error
    if given not in ("", unit):
        raise CircuitError(f"{name} '{text}' is not in {unit}; give {low:g} to {high:g} {unit}.")
    if not low <= value <= high:
        raise CircuitError(f"{name.lstrip('-')} {value:g} {unit} is out of range; give {low:g} to {high:g}.")
    return value


def is_file(name: str) -> bool:
    """False, too, for names that no file system takes."""
    try:
        return Path(name).exists()
    except (OSError, ValueError):
        return False


def short(text: str) -> str:
    """What a person typed, not longer than can be read."""
    return text if len(text) <= 80 else f"{text[:80]}…"


def _pairs(settings: Iterable[str]) -> Iterable[tuple[str, float]]:
    for setting in settings:
        name, equals, value = setting.partition("=")
        if not equals:
            raise CircuitError(f"--set '{setting}' is not name=value; write for example --set compensation=0.5.")
        try:
            yield name.strip(), parse_number(value)[0]
        except JiyuuError:
            try:
                yield name.strip(), float(value)  # nan and inf: refused with the parameter's range
            except ValueError as error:
                raise CircuitError(f"--set {name}: '{value}' is not a number.") from error


def print_json(document: Mapping[str, object]) -> None:
    """One object on standard output and nothing else there."""
    sys.stdout.write(json.dumps(document, allow_nan=False, ensure_ascii=False) + "\n")


def notice(text: str) -> None:
    """For the person, on standard error."""
    sys.stderr.write(text + "\n")


def uncertain(value: float | None, uncertainty: float | None) -> dict[str, float | None] | None:
    """{value, uncertainty}, or null where there is no value."""
    return None if value is None else {"value": value, "uncertainty": uncertainty}
