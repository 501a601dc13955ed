"""Patches on the command line: the settings in force, their response, their output."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from jiyuu.arrays import FloatArray
from jiyuu.circuits.linear import level_db
from jiyuu.cli.curves import ENDINGS
from jiyuu.cli.options import PatchSettings, notice, print_json, short, typed
from jiyuu.cli.waiting import in_view
from jiyuu.errors import CircuitError, JiyuuError, SignalError
from jiyuu.patch.document import Patch
from jiyuu.patch.frozen import frozen_at
from jiyuu.patch.playing import play_record, sources_record
from jiyuu.patch.reading import parse_patch, read_patch
from jiyuu.patch.response import SideResponse, judged_loops, respond_patch
from jiyuu.quantities import parse_frequency, parse_number
from jiyuu.signals.long_record import Record
from jiyuu.signals.recordings import LONGEST_S, read_long, write_long
from jiyuu.whole_file import apart_from, write_bytes


def chosen_patch(name: str, asked: PatchSettings) -> tuple[Patch, tuple[Path, ...]]:
    """(the patch with what was asked in force, the files it was read from). Raises CircuitError."""
    patch, files = read_patch(Path(name))
    document = patch.model_dump(mode="json", exclude_none=True, by_alias=True)
    for stage, field, value in _changes(document, asked):
        stage[field] = value
    drive_db = typed(asked.drive_db, "--drive-db", "dB", -120, 120)
    if drive_db:
        document["path"].insert(0, {"stage": "gain", "db": drive_db})
    return parse_patch(json.dumps(document), source=name), files


def _changes(document: dict[str, Any], asked: PatchSettings) -> Iterator[tuple[dict[str, object], str, object]]:
    stages = list(_stages(document["path"]))
    filters = [stage for stage in stages if stage["stage"] == "filter"]

    def of_first(option: str) -> dict[str, Any]:
        if not filters:
            raise CircuitError(f"{option} acts on the first filter and this patch has none; leave it away.")
        return filters[0]

    if asked.mode is not None:
        yield of_first("--mode"), "mode", asked.mode
    if asked.cutoff is not None:
        yield of_first("--cutoff"), "cutoff_hz", parse_frequency(asked.cutoff)
    if asked.resonance_gain is not None and asked.resonance is not None:
        raise CircuitError("give --resonance-gain or --resonance, not both.")
    if asked.resonance_gain is not None or asked.resonance is not None:
        stage = of_first("--resonance")
        for field in ("resonance_gain", "resonance_percent"):
            stage.pop(field, None)
        if asked.resonance_gain is not None:
            yield stage, "resonance_gain", asked.resonance_gain
        else:
            yield stage, "resonance_percent", typed(str(asked.resonance), "--resonance", "%", 0, 100)
    for setting in asked.settings:
        target, equals, text = setting.partition("=")
        if not equals:
            raise CircuitError(f"--set '{short(setting)}' is not name=value; write for example --set drive.db=6.")
        own, dot, field = target.strip().rpartition(".")
        if not dot:
            yield of_first(f"--set {field}").setdefault("parameters", {}), field, _value(text)
            continue
        meant = next((one for one in stages if one.get("id") == own), None)
        if meant is None:
            known = ", ".join(one["id"] for one in stages if one.get("id")) or "none has an id"
            raise CircuitError(f"--set {short(target)}: there is no stage '{short(own)}'; there are: {known}.")
        yield meant, field, _value(text)


def _stages(path: Iterable[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for stage in path:
        yield stage
        for inner in (stage.get("path"), stage.get("left"), stage.get("right"),
                      *(limb.get("path") for limb in stage.get("branches", ()))):
            yield from _stages(inner or ())


def _value(text: str) -> float | int | str:
    """A number where it is one, else the words as they stand."""
    try:
        number = parse_number(text)[0]
    except JiyuuError:
        return text.strip()
    return int(number) if number in (1, -1) else number


def respond(
    name: str, asked: PatchSettings, frequency_hz: FloatArray, *, at: str | None, as_json: bool, out: Path | None
) -> None:
    """The response as CSV, or JSON with the stability of every loop; at: a moment of what moves, in s. Raises
    CircuitError."""
    patch, files = chosen_patch(name, asked)
    if at is not None:
        patch = frozen_at(patch, typed(at, "--at", "s", 0, LONGEST_S))
    sides = respond_patch(patch, frequency_hz)
    columns = _columns(frequency_hz, sides)
    loops = judged_loops(patch)
    result: dict[str, object] = {
        "title": patch.name, **{key: [float(f"{v:.9g}") for v in values] for key, values in columns.items()},
        "stable": all(side.stable for side in sides),
        "loops": [{"stage": loop.called, "stable": loop.stable, "rings_at_hz": loop.rings_at_hz,
                   "amount_to_ring": loop.amount_to_ring} for loop in loops],
    }
    if not result["stable"]:
        notice("jiyuu: the patch rings by itself; the response says what its equations give, not what is heard.")
    rows = zip(*columns.values(), strict=True)
    text = "\n".join([",".join(columns), *(",".join(f"{value:.9g}" for value in row) for row in rows)]) + "\n"
    if out is not None:
        ending = out.suffix.lower()
        if ending not in ("", ".csv", ".json"):
            raise CircuitError(f"{out.name}: the response of a patch is written as .csv or .json, not as "
                               f"{'a picture' if ending in ENDINGS else ending}.")
        whole = json.dumps(result, allow_nan=False, ensure_ascii=False) + "\n" if ending == ".json" else text
        write_bytes(out, whole.encode(), inputs=files)
    if as_json:
        print_json(result)
    elif out is None:
        print(text, end="")


def _columns(frequency_hz: FloatArray, sides: list[SideResponse]) -> dict[str, FloatArray]:
    if len(sides) == 1:
        (only,) = sides
        return {"frequency_hz": frequency_hz, "magnitude_db": level_db(only.gain), "phase_deg": only.phase_deg,
                "group_delay_s": only.group_delay_s}
    columns = {"frequency_hz": frequency_hz}
    for side, found in zip(("left", "right"), sides, strict=True):
        columns |= {f"magnitude_{side}_db": level_db(found.gain), f"phase_{side}_deg": found.phase_deg}
    return columns


def render(
    name: str, asked: PatchSettings, input_wav: Path, output_wav: Path, *, full_scale_v: float, block: int | None,
    duration: str | None, rate: int,
) -> None:
    """The patch played on a recording, or with '-' on its own sources. Raises JiyuuError."""
    patch, files = chosen_patch(name, asked)
    read = [*files, *(() if str(input_wav) == "-" else (input_wav,))]
    apart_from(output_wav, read)
    if block is not None and block < 1:
        raise SignalError(f"--block {block} is out of range; give 1 sample or more.")
    if str(input_wav) == "-":
        if duration is None:
            raise SignalError("with '-' for IN.wav the patch plays its own sources: say for how long, --duration 2.")
        length_s = typed(duration, "--duration", "s", 0.01, LONGEST_S)
        if not 8000 <= rate <= 192_000:
            raise SignalError(f"--rate {rate} is out of range; give 8000 to 192000.")
        if not patch.sources:
            raise SignalError(f"{name} has no sources; give an IN.wav, or add sources to the patch.")
        played, rate_hz = [Record.of(sources_record(patch, length_s, float(rate)))], rate
    else:
        recording = read_long(input_wav, full_scale_v=full_scale_v, may_be_silent=True)
        played, rate_hz = recording.channels, recording.sample_rate_hz
    with in_view("Rendering"):
        sound = play_record(patch, played, float(rate_hz), block=block, own_sources=str(input_wav) == "-")
    write_long(output_wav, sound, rate_hz, full_scale_v=full_scale_v, inputs=read)
