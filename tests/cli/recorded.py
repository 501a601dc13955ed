"""Commands whose printed numbers are held still, and how they are recorded.

    python -m tests.cli.recorded      writes recorded.json anew: only where a fault was mended, and said so
"""

import contextlib
import csv
import io
import json
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
import soundfile

from jiyuu.cli.entry import main
from jiyuu.signals.recordings import write_recording

KEPT = Path(__file__).with_name("recorded.json")
CIRCUITS = ("transistor-ladder", "ota-cascade", "diode-ladder", "state-variable", "pole-mixer", "sallen-key-lowpass")


def spoken(*arguments: object) -> str:
    """What a command prints."""
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
        code = main([str(a) for a in arguments])
    assert code == 0, arguments
    return out.getvalue()


def table(text: str) -> dict[str, list[float]]:
    """Every tenth row of a CSV, by column."""
    rows = list(csv.DictReader(io.StringIO(text)))[::10]
    return {name: [float(row[name]) for row in rows] for name in rows[0]}


def circuits(folder: Path) -> object:
    return json.loads(spoken("circuits", "--json"))


def respond(circuit: str) -> dict[str, list[float]]:
    return table(spoken("respond", circuit, "--cutoff", "1k", "--resonance", "50", "--points", "101"))


def oscillate(circuit: str) -> object:
    return json.loads(spoken("oscillate", circuit, "--cutoff", "1k", "--resonance", "100", "--json"))


def response(folder: Path, circuit: str, kind: str) -> object:
    played, heard = folder / f"{kind}.wav", folder / f"{circuit}-{kind}.wav"
    if not played.exists():
        # Tones are so soft that nothing is compressed: what no network has would turn the last digit into many.
        how = ("--level-v", "0.002") if kind == "tones" else ("--level-v", "0.05", "--seconds", "1")
        spoken("stimulus", kind, played, *how)
    spoken("render", circuit, played, heard, "--cutoff", "800", "--resonance", "40")
    return json.loads(spoken("measure", "response", played, heard, "--json"))


def tone(folder: Path) -> object:
    played, heard = folder / "tone-in.wav", folder / "tone.wav"
    spoken("stimulus", "sweep", played, "--seconds", "0.5", "--level-v", "0.1")
    spoken("render", "ota-cascade", played, heard, "--cutoff", "440", "--resonance-gain", "4.4")
    return json.loads(spoken("measure", "tone", heard, "--json"))


def tracking(folder: Path) -> object:
    volts, played, heard = folder / "volts.wav", folder / "kick.wav", folder / "steps.wav"
    spoken("stimulus", "steps", volts, "--volts", "0:3:1", "--seconds", "0.4")
    knock = np.zeros(soundfile.info(volts).frames)
    knock[:480] = 0.1 * np.random.default_rng(5).standard_normal(480)
    write_recording(played, knock, 48_000)
    spoken("render", "ota-cascade", played, heard, "--cutoff", "220", "--resonance-gain", "4.4", "--cutoff-cv", volts)
    return json.loads(spoken("measure", "tracking", heard, "--volts", "0:3:1", "--json"))


def predictions(folder: Path) -> dict[str, object]:
    found: dict[str, object] = {"circuits": circuits(folder)}
    for circuit in CIRCUITS:
        found[f"respond {circuit}"] = respond(circuit)
        found[f"oscillate {circuit}"] = oscillate(circuit)
    return found


PARTS: dict[str, Callable[[Path], object]] = {
    "predictions": predictions,
    "measure response sweep transistor-ladder": partial(response, circuit="transistor-ladder", kind="sweep"),
    "measure response sweep state-variable": partial(response, circuit="state-variable", kind="sweep"),
    "measure response noise": partial(response, circuit="transistor-ladder", kind="noise"),
    "measure response tones": partial(response, circuit="transistor-ladder", kind="tones"),
    "measure tone": tone,
    "measure tracking": tracking,
}


def output(part: str) -> object:
    with tempfile.TemporaryDirectory() as name:
        return PARTS[part](Path(name))


if __name__ == "__main__":
    kept = {part: output(part) for part in PARTS}
    KEPT.write_text(json.dumps(kept, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    sys.exit(0)
