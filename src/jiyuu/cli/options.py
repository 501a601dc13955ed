"""What the commands share: the filter named on the command line, its settings, output."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import typer

from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.quantities import parse_frequency, parse_number

FilterArgument = Annotated[str, typer.Argument(metavar="FILTER", help="A catalogue id or a *.filter.json file.")]
Mode = Annotated[str | None, typer.Option("--mode", help="Output of the circuit; the first one when not given.")]
Cutoff = Annotated[str | None, typer.Option("--cutoff", help="Pole frequency: 1k2, 440, A4 or 0.5V (1 V/octave).")]
ResonanceGain = Annotated[float | None, typer.Option("--resonance-gain", help="Resonance as loop gain k.")]
Resonance = Annotated[float | None, typer.Option("--resonance", help="Resonance in % of the control's travel.")]
DriveDb = Annotated[float, typer.Option("--drive-db", help="Gain ahead of the filter, dB.")]
Set = Annotated[list[str] | None, typer.Option("--set", help="name=value of a circuit parameter; repeatable.")]
Json = Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")]
Out = Annotated[Path | None, typer.Option("--out", help="File to write.")]
FullScale = Annotated[float, typer.Option("--full-scale-v", help="Volts of a full-scale sample.")]


@dataclass(frozen=True)
class Chosen:
    """A filter with its settings in force."""

    document: Any  # jiyuu.circuits.filter_file.Filter, imported late to keep --help quick
    parameters: dict[str, float]
    mode: str
    cutoff_hz: float
    gain: float
    drive: float

    def network(self) -> Any:
        return self.document.entry.network(self.parameters)


def choose(
    name: str,
    *,
    mode: str | None,
    cutoff: str | None,
    resonance_gain: float | None,
    resonance: float | None,
    drive_db: float,
    settings: Iterable[str] | None,
) -> Chosen:
    """The filter of a catalogue id or file with the options applied. Raises CircuitError."""
    import math

    from jiyuu.circuits.catalogue import circuits
    from jiyuu.circuits.circuit import checked_cutoff, checked_gain
    from jiyuu.circuits.filter_file import neutral_filter, read_filter

    if name in circuits():
        document = neutral_filter(name)
    elif Path(name).exists() or name.endswith(".json") or "/" in name:
        document = read_filter(Path(name))
    else:
        raise CircuitError(
            f"there is no circuit '{name}' and no file of that name; choose one of: {', '.join(circuits())}."
        )
    if resonance_gain is not None and resonance is not None:
        raise CircuitError("give --resonance-gain or --resonance, not both.")
    if resonance is not None and not 0 <= resonance <= 100:
        raise CircuitError(f"resonance {resonance:g} % is out of range; give 0 to 100.")
    if not (math.isfinite(drive_db) and -120 <= drive_db <= 120):
        raise CircuitError(f"drive {drive_db:g} dB is out of range; give -120 to 120.")
    gain = document.gain_at(document.resonance_percent if resonance is None else resonance)
    parameters = {**document.parameters, **dict(_pairs(settings or []))}
    document.entry.values(parameters)
    return Chosen(
        document=document,
        parameters=parameters,
        mode=document.entry.mode(mode if mode is not None else document.mode),
        cutoff_hz=checked_cutoff(document.cutoff_hz if cutoff is None else parse_frequency(cutoff)),
        gain=checked_gain(gain if resonance_gain is None else resonance_gain),
        drive=10 ** (drive_db / 20),
    )


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


def print_json(document: Mapping[str, Any]) -> None:
    """One object on standard output and nothing else there."""
    sys.stdout.write(json.dumps(document, allow_nan=False, ensure_ascii=False) + "\n")


def notice(text: str) -> None:
    """For the person, on standard error."""
    sys.stderr.write(text + "\n")


def uncertain(value: float | None, uncertainty: float | None) -> dict[str, float | None] | None:
    """{value, uncertainty}, or null where there is no value."""
    return None if value is None else {"value": value, "uncertainty": uncertainty}
