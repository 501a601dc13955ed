"""What every command prints as JSON, each made of small files."""

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from typer.main import get_command

from jiyuu.bench.demo import write_demo_book
from jiyuu.cli.commands import app
from tests.cli.recorded import oscillate, response, spoken, tone, tracking

RATE = 48_000
PATCH = {
    "format": "jiyuu-patch", "version": 1, "name": "Made up",
    "path": [{"stage": "filter", "id": "first", "filter": "transistor-ladder", "cutoff_hz": 300.0},
             {"stage": "feedback", "id": "ring", "amount": 0.2, "path": [
                 {"stage": "filter", "id": "second", "filter": "state-variable", "cutoff_hz": 900.0}]}],
    "controls": {"slow": {"kind": "lfo", "rate_hz": 2.0, "shape": "rise"}},
    "routes": [{"from": "slow", "to": "first.cutoff", "amount": 1}],
}
WISH = {"format": "jiyuu-wish", "version": 1, "parts": {"series": "E24", "capacitor_percent": 1},
        "wishes": [{"quantity": "peak_hz", "target": 640, "tolerance": 15}]}


def said(*arguments: object) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(spoken(*arguments, "--json"))
    return found


def written(path: Path, document: object) -> Path:
    path.write_text(json.dumps(document), encoding="utf-8")
    return path


def book(folder: Path) -> Path:
    path = folder / "made.jiyuu"
    if not path.exists():
        write_demo_book(path, measured=False)
    return path


def sounding(folder: Path, name: str, hertz: float, moved: float = 0.0) -> Path:
    """A tone of two seconds; moved: by how much of itself it goes to and fro at 5 Hz."""
    t = np.arange(2 * RATE) / RATE
    wave = 0.1 * np.sin(2 * np.pi * hertz * t) * (1 + moved * np.sin(2 * np.pi * 5 * t))
    soundfile.write(folder / name, wave, RATE, "FLOAT")
    return folder / name


def driven(folder: Path) -> dict[str, Any]:
    played, heard = folder / "ladder.wav", folder / "driven.wav"
    levels = ("--levels", "-20:10:10")
    spoken("stimulus", "drive", played, *levels)
    spoken("render", "transistor-ladder", played, heard, "--cutoff", "1k")
    return said("measure", "drive", heard, *levels)


def struck(folder: Path) -> dict[str, Any]:
    played, heard = folder / "pulses.wav", folder / "rings.wav"
    spoken("stimulus", "pings", played, "--count", "2")
    spoken("render", "state-variable", played, heard, "--cutoff", "300", "--resonance", "80")
    return said("measure", "ping", played, heard)


def settling(folder: Path) -> dict[str, Any]:
    volts = np.where(np.arange(2 * RATE) < RATE, 0.0, 1.0)
    octaves = np.convolve(np.diff(volts, prepend=0.0), np.exp(-np.arange(RATE // 2) / 480) / 480)[: volts.size]
    turns = np.cumsum(300 * 2 ** np.cumsum(octaves)) / RATE
    soundfile.write(folder / "stepped.wav", 0.05 * np.sin(2 * np.pi * turns), RATE, "FLOAT")
    return said("measure", "settling", folder / "stepped.wav")


def identified(folder: Path) -> dict[str, Any]:
    pairs: list[object] = []
    for level_v in ("0.05", "2"):
        played, heard = folder / f"sweep-{level_v}.wav", folder / f"heard-{level_v}.wav"
        spoken("stimulus", "sweep", played, "--level-v", level_v, "--seconds", "1")
        spoken("render", "state-variable", played, heard, "--cutoff", "800", "--resonance", "40")
        pairs += ["--pair", played, heard]
    return said("identify", *pairs)


def exchanged(folder: Path) -> dict[str, Any]:
    return said("exchange", book(folder), "--out", folder / "open")


MADE: dict[str, Callable[[Path], Any]] = {
    "circuits": lambda folder: said("circuits"),
    "oscillate": lambda folder: oscillate("ota-cascade"),
    "respond": lambda folder: said("respond", written(folder / "p.patch.json", PATCH), "--points", "11"),
    "controls": lambda folder: said("controls", written(folder / "c.patch.json", PATCH), "--duration", "0.1",
                                    "--out", folder / "c.csv"),
    "validate": lambda folder: said("validate", book(folder)),
    "exchange": exchanged,
    "recover": lambda folder: said("recover", book(folder), "--out", folder / "recovered.jiyuu"),
    "report": lambda folder: said("report", book(folder), "--kind", "comparison", "--out", folder / "r.html"),
    "character": lambda folder: said("character", "state-variable", "--cutoff", "800"),
    "compare": lambda folder: said("compare", "state-variable", "sallen-key-lowpass", "--cutoff", "800"),
    "identify": identified,
    "design": lambda folder: said("design", written(folder / "w.wish.json", WISH)),
    "masking": lambda folder: said("masking", sounding(folder, "a.wav", 440), sounding(folder, "b.wav", 500)),
    "drive": lambda folder: said("drive", "transistor-ladder", "--cutoff", "800"),
    "measure response": lambda folder: response(folder, "transistor-ladder", "sweep"),
    "measure levels": lambda folder: said("measure", "levels", sounding(folder, "l.wav", 440)),
    "measure tone": tone,
    "measure tracking": tracking,
    "measure drive": driven,
    "measure ping": struck,
    "measure settling": settling,
    "measure sidebands": lambda folder: said("measure", "sidebands", sounding(folder, "s.wav", 440, 0.2),
                                             "--tone", "440", "--rate", "5"),
}


def commands_with_json() -> Iterator[str]:
    """Names of all commands that print JSON when asked."""
    def within(command: Any, name: str) -> Iterator[str]:
        if hasattr(command, "commands"):
            for sub, one in command.commands.items():
                yield from within(one, f"{name} {sub}".strip())
        elif any("--json" in one.opts for one in command.params):
            yield name
    yield from within(get_command(app), "")
