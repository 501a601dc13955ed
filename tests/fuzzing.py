"""Seeded mutation of every format that is read, given to the commands that read it: what must hold of any input.

A command answers (exit 0) or refuses in one line (exit 2): no traceback, no warning of a library, no hang, the input
as it was, and after a refusal nothing new on the disk.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import random
import re
import shutil
import time
import traceback
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

from jiyuu.cli.entry import main
from tests.book.test_exchange import written
from tests.patch.making import patch

SLOW_S = 5.0
FOLDERS = 10_000_000  # seeds from here on spoil a file of an exchanged book
VALUES = (float("nan"), float("inf"), -1, 0, 1e308, None, True, [], {}, "", "\x00", 10**20, -0.0, "é", 1.5,
          "lowpass-24")
SIGNS = "\x00\n\",:\\{}[]A\x7f\u2028"
LINES = ("", "a,b,c", "1e999,2,3", "20,,", '"1,000",2,3', "nan,1,2", "-5,1,2", "# x", ";;", "9" * 400 + ",1,2")


def seeds(folder: Path) -> dict[str, list[Path]]:
    """A good file of every kind."""
    folder.mkdir()
    one = {"format": "jiyuu-filter", "version": 1, "name": "V", "circuit": "transistor-ladder", "mode": "lowpass-24",
           "parameters": {"stage_headroom_v": 1.5}, "cutoff_hz": 820.0, "resonance_percent": 45.0, "full_gain": None,
           "tolerances": {"cutoff_offset_cents": 8.0}, "notes": "x"}
    board = {"name": "V", "circuit": "ota-cascade", "components": {
        "capacitor_f": "4n7", "current_a": "20uA", "attenuation": 0.02, "resonance_ohm": "22k", "cutoff_v": 1}}
    path = [{"stage": "filter", "id": "first", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 700,
             "resonance_gain": 0.8},
            {"stage": "parallel", "branches": [{"path": []}, {"path": [{"stage": "comb", "frequency_hz": 200.0}]}]},
            {"stage": "feedback", "amount": 0.3, "path": [{"stage": "shape"}, {"stage": "allpass", "stages": 4,
                                                                              "cutoff_hz": 300}]}]
    moving = {"controls": {"e": {"kind": "envelope"}, "l": {"kind": "lfo", "rate_hz": 2.0}},
              "routes": [{"from": "e", "to": "first.cutoff", "amount": 1.0},
                         {"from": "l", "to": "first.resonance", "amount": 0.1}],
              "figure": {"steps": [{"pitch_v": 0.0}, {"pitch_v": 1.0, "accent": True}], "step_s": 0.2}}
    later = [{"stage": "shapes", "id": "day", "morph": 0.4, "axes": ["evening"], "settings": [
                 {"name": "noon", "bands": [{"kind": "low_shelf", "gain_db": 6.0}], "trim_db": -1.0},
                 {"name": "night", "bands": [{"frequency_hz": 300.0, "gain_db": -9.0, "q": 2.0}]}]},
             {"stage": "resonator", "range": "high", "cutoff_hz": 900.0, "q": 9.0},
             {"stage": "bank", "bands": 5, "tuned": "pentatonic", "lowest_hz": 110.0},
             {"stage": "chord", "root_hz": 110.0, "semitones": [0, 4, 7], "inversion": 1}, {"stage": "crush"}]
    turning = {"controls": {"l": {"kind": "lfo", "rate_hz": 3.0}}, "routes": [{"from": "l", "to": "day.morph"}],
               "figure": {"steps": [{"semitones": 3.0}], "step_s": 0.1, "swing": 0.3}}
    hertz = np.geomspace(20, 20_000, 120)
    tone = 0.1 * np.sin(2 * np.pi * 220 * np.arange(24_000) / 48_000)
    texts = {"a.filter.json": json.dumps(one, indent=1), "b.filter.json": json.dumps(board),
             "a.wish.json": json.dumps({
                 "format": "jiyuu-wish", "version": 1, "parts": {"series": "E12", "capacitor_percent": 1.0},
                 "wishes": [{"quantity": "peak_db", "target": 6.0, "tolerance": 0.5, "weight": 1.0}]}),
             "a.patch.json": json.dumps(patch(path, **moving), indent=1),
             "b.patch.json": json.dumps(patch(later, **turning), indent=1),
             "curve.csv": "frequency_hz,magnitude_db,phase_deg\n" + "".join(
                 f"{f:.4f},{-20 * np.log10(1 + f / 800):.5f},{-np.rad2deg(np.arctan(f / 800)):.4f}\n" for f in hertz)}
    for name, text in texts.items():
        (folder / name).write_text(text)
    for name in ("in.wav", "in.flac"):
        soundfile.write(folder / name, tone, 48_000, subtype="PCM_16")
    written(folder / "a.jiyuu")
    with contextlib.redirect_stdout(io.StringIO()):
        main(["exchange", str(folder / "a.jiyuu"), "--out", str(folder / "exchanged")])
    return {"filter": [folder / f"{name}.json" for name in ("a.filter", "b.filter", "a.wish")],
            "patch": [folder / f"{name}.patch.json" for name in "ab"],
            "sound": [folder / "in.wav", folder / "in.flac"], "curve": [folder / "curve.csv"],
            "book": [folder / "a.jiyuu"]}


def commands(kind: str, path: str, out: str, good: str) -> list[list[str]]:
    """Whatever reads such a file."""
    return {
        "filter": [["validate", path], ["respond", path, "--points", "20"], ["netlist", path, "--out", f"{out}.cir"]],
        "patch": [["validate", path], ["respond", path, "--points", "20", "--json"],
                  ["controls", path, "--duration", "0.2", "--rate", "100", "--out", f"{out}.csv"],
                  ["render", path, "-", f"{out}.wav", "--duration", "0.02"]],
        "sound": [["measure", "tone", path, "--json"], ["measure", "levels", path, "--json"],
                  ["render", "state-variable", path, f"{out}.wav"], ["measure", "response", good, path, "--json"]],
        "curve": [["measure", "response", path, "--json"]],
        "book": [["validate", path], ["exchange", path, "--out", f"{out}-folder"],
                 ["recover", path, "--out", f"{out}.jiyuu"]],
        "folder": [["exchange", path, "--out", f"{out}.jiyuu"]],
    }[kind]


def mutated(kind: str, data: bytes, draw: random.Random) -> bytes:
    """The same file, spoilt."""
    if kind in ("filter", "patch"):
        return _document(data.decode(), draw).encode("utf-8", "surrogatepass")
    if kind == "curve" and draw.random() < 0.5:
        lines = data.decode().split("\n")
        i = draw.randrange(len(lines))
        lines[i] = draw.choice([*LINES, lines[i] * 3])
        return "\n".join(lines).encode()
    return _bytes(bytearray(data), draw)


def _document(text: str, draw: random.Random) -> str:
    way = draw.randrange(6)
    if way < 2:
        i = draw.randrange(len(text))
        return text[:i] + text[i + draw.randrange(1, 8) :] if way else text[:i] + draw.choice(SIGNS) + text[i:]
    document = json.loads(text)
    for _ in range(draw.choice([1, 1, 1, 2, 3])):
        owner, key = draw.choice(list(_places(document)))
        if way == 2:
            owner[key] = draw.choice(VALUES)
        elif way == 3:
            del owner[key]
            break
        elif way == 4 and isinstance(owner, dict):
            owner[draw.choice(["q", "cutoff_hz", "id", "stage", "x" * 300])] = owner[key]
        elif isinstance(owner[key], int | float):
            owner[key] *= draw.choice([-1, 0, 1e-9, 1e9, 1e30, 0.5, 3])
        else:
            owner[key] = [owner[key]] * draw.choice([1, 3, 200])
    return json.dumps(document)


def _places(value: object) -> Iterator[tuple[object, object]]:
    for key in value if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ():
        yield value, key
        yield from _places(value[key])


def _bytes(data: bytearray, draw: random.Random) -> bytes:
    way, i = draw.randrange(5), draw.randrange(len(data))
    if way == 0:
        return bytes(data[:i])
    if way == 1:
        for _ in range(draw.choice([1, 3, 30])):
            data[draw.randrange(len(data))] = draw.randrange(256)
    elif way == 2:
        count = draw.randrange(1, 200)
        data[i : i + count] = draw.randbytes(count)
    elif way == 3:  # the head of a file says what the rest is
        for _ in range(draw.choice([1, 2, 4])):
            data[draw.randrange(min(len(data), 120))] = draw.choice([0, 255, 127, 128, draw.randrange(256)])
    else:
        del data[i : i + draw.randrange(1, 64)]
    return bytes(data)


def spoilt(origin: Path, folder: Path, draw: random.Random) -> None:
    """An exchanged book with one file mutated, gone, doubled, or a folder in its place."""
    shutil.copytree(origin, folder)
    path = draw.choice(sorted(one for one in folder.rglob("*") if one.is_file()))
    way = draw.random()
    if way < 0.08:
        path.unlink()
    elif way < 0.12:
        path.with_name("stray.json").write_text("{}")
    elif way < 0.15:
        path.unlink()
        path.mkdir()
    else:
        kind = {".json": "filter", ".csv": "curve"}.get(path.suffix, "sound")
        data = path.read_bytes()
        if way < 0.3 and kind == "filter":  # what leads out of the folder
            data = re.sub(rb'"file": "[^"]*"', b'"file": "%s"' % draw.choice([
                b"../outside.csv", b"/etc/hostname", b"", b".", b"a" * 300]), data, count=1)
        path.write_bytes(mutated(kind, data, draw) if way > 0.25 and data else data)


def faults(folder: Path, first: int, count: int) -> Iterator[str]:
    """What went wrong with so many mutated files, from that seed on: nothing should. folder: a new one to work in."""
    folder.mkdir()
    good = seeds(folder / "good")
    for seed in range(first, first + count):
        draw = random.Random(seed)
        kind = "folder" if seed >= FOLDERS else draw.choice([*good])
        place = folder / "one"
        place.mkdir()
        if kind == "folder":
            path = place / "one"
            spoilt(folder / "good" / "exchanged", path, draw)
        else:
            origin = draw.choice(good[kind])
            path = place / f"one{''.join(origin.suffixes)}"
            path.write_bytes(mutated(kind, origin.read_bytes(), draw))
        for command in commands(kind, str(path), str(place / "out"), str(good["sound"][0])):
            for wrong in _wrong(command, path, place):
                yield f"seed {seed}, {kind}: {' '.join(command[:2])}: {wrong}"
        shutil.rmtree(place)


def _wrong(command: list[str], path: Path, place: Path) -> Iterator[str]:
    before, digest = set(place.iterdir()), _digest(path)
    out, err, start = io.StringIO(), io.StringIO(), time.monotonic()
    code: object
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main(command)
        except BaseException:
            code = traceback.format_exc()
    said = err.getvalue()
    if code not in (0, 2):
        yield f"ended with {code}"
    if "Traceback" in said or "Warning" in said:
        yield f"said {said[-500:]}"
    if code == 2 and not (said.startswith("jiyuu: ") and said.count("\n") == 1):
        yield f"refused with {said[:300]!r}"
    if time.monotonic() - start > SLOW_S:
        yield f"took {time.monotonic() - start:.1f} s"
    if _digest(path) != digest:
        yield "changed its input"
    left = set(place.iterdir()) - before
    if code == 2 and left:
        yield f"left {', '.join(sorted(one.name for one in left))}"
    for one in left:
        shutil.rmtree(one) if one.is_dir() else one.unlink()


def _digest(path: Path) -> str:
    """Of a file, or of all files of a folder with their names."""
    files = [path] if path.is_file() else sorted(one for one in path.rglob("*") if one.is_file())
    held = hashlib.sha256()
    for one in files:
        held.update(str(one).encode() + one.read_bytes())
    return held.hexdigest()
