"""Patch files read and written; every way one can be wrong has its own sentence that names the place."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from jiyuu.circuits.catalogue import circuits
from jiyuu.circuits.filter_file import document_text, read_filter, refuse_constant, without_duplicates
from jiyuu.errors import CircuitError
from jiyuu.patch.document import Patch
from jiyuu.patch.motion_checks import check_motion
from jiyuu.whole_file import write_text

DEEPEST = 16
NAMED = re.compile(r"routes\[\d+\]|controls\.[^.]+|figure|figure\.steps\[\d+\]")  # places with a name of their own


def read_patch(path: Path) -> tuple[Patch, tuple[Path, ...]]:
    """(the patch, the files it was read from: its own and those of its filters). Raises CircuitError naming the file,
    the place and what to do."""
    text = document_text(path, "a patch", "give a *.patch.json")
    files = [path]
    return parse_patch(text, source=str(path), folder=path.parent, files=files), tuple(files)


def parse_patch(text: str, *, source: str, folder: Path | None = None, files: list[Path] | None = None) -> Patch:
    """A patch from JSON text. folder: where the filter files lie that it names; files: those read are added. Raises
    CircuitError in one sentence."""
    try:
        document = json.loads(text, object_pairs_hook=without_duplicates, parse_constant=refuse_constant)
    except json.JSONDecodeError as error:
        raise CircuitError(f"{source} is not valid JSON: {error.msg} at line {error.lineno}; mend it there.") from error
    except (ValueError, RecursionError) as error:
        what = "it is nested deeper than can be read" if isinstance(error, RecursionError) else str(error)
        raise CircuitError(f"{source}: {what}.") from error
    if not isinstance(document, dict):
        raise CircuitError(f"{source} is JSON but not a patch; a patch is one object with 'name' and 'path'.")
    for place, stage in _stages(document.get("path"), "path", 0, source):
        _with_its_file(stage, place, source, folder, files)
    try:
        patch = Patch.model_validate(document)
    except ValidationError as error:
        raise CircuitError(f"{source}: {_sentence(error, document)}") from error
    _ids_once(document, source)
    try:
        check_motion(patch)
    except CircuitError as error:
        raise CircuitError(f"{source}: {error}") from error
    return patch


def write_patch(path: Path, patch: Patch) -> None:
    """Write a patch file, whole or not at all."""
    write_text(path, patch.model_dump_json(indent=2, exclude_none=True, by_alias=True) + "\n")


def _stages(path: object, place: str, depth: int, source: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """(place, stage) of every object in a path of a document that is not yet known to be right, inner ones too."""
    if not isinstance(path, list):
        return
    if depth > DEEPEST:
        raise CircuitError(f"{source}: path: it is nested deeper than {DEEPEST} stages; take some of them out.")
    for i, stage in enumerate(path):
        if not isinstance(stage, dict):
            continue
        here = f"{place}[{i}]"
        yield here, stage
        for name in ("path", "left", "right"):
            yield from _stages(stage.get(name), f"{here}.{name}", depth + 1, source)
        limbs = stage.get("branches")
        for j, limb in enumerate(limbs if isinstance(limbs, list) else []):
            if isinstance(limb, dict):
                yield from _stages(limb.get("path"), f"{here}.branches[{j}].path", depth + 1, source)


def _with_its_file(
    stage: dict[str, object], place: str, source: str, folder: Path | None, files: list[Path] | None
) -> None:
    """A filter that lies beside the patch is read into it."""
    name = stage.get("filter")
    if stage.get("stage") != "filter" or not isinstance(name, str) or name in circuits() or folder is None:
        return
    if not name.endswith(".json"):
        return
    beside = folder / name
    try:
        found = read_filter(beside)
    except CircuitError as error:
        raise CircuitError(f"{source}: {_name(stage, place)}: filter: {error}") from error
    if files is not None:
        files.append(beside)
    stage["filter"] = found


def _ids_once(document: dict[str, object], source: str) -> None:
    seen: dict[str, str] = {}
    for place, stage in _stages(document.get("path"), "path", 0, source):
        own = stage.get("id")
        if own is not None and own in seen:
            raise CircuitError(f"{source}: id: the stages {seen[own]} and {place} are both called '{own}'; rename one.")
        if own is not None:
            seen[own] = place


def _name(stage: dict[str, object], place: str) -> str:
    own = stage.get("id")
    return own if isinstance(own, str) and own else place


def _sentence(error: ValidationError, document: dict[str, object]) -> str:
    """The first fault in one line: where, which field, what."""
    first = min(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
    here: object = document
    name, place, field = "", "", ""
    for part in first["loc"]:
        if isinstance(part, int) and isinstance(here, list) and part < len(here):
            here, place, field = here[part], f"{place}[{part}]", ""
            if isinstance(here, dict) and ("stage" in here or "id" in here):
                name = _name(here, place)
        elif isinstance(part, str) and isinstance(here, dict) and part in here:
            here, place, field = here[part], f"{place}.{part}" if place else part, part
        elif isinstance(part, str) and re.fullmatch(r"[a-z_0-9]+", part) and part not in ("str", "float") and not (
            isinstance(here, dict) and part in (here.get("stage"), here.get("kind"))
        ):
            field = part  # one that is missing, no name of a model
        if NAMED.fullmatch(place):
            name, field = place, ""
    message = str(first["msg"]).removeprefix("Value error, ").rstrip(".")
    message = re.sub(r"<\w+\.\w+: ('[^']*')>", r"\1", message)  # an enumeration's words without its names
    if first["type"] == "extra_forbidden":
        message = "this key is not known; remove it or correct its spelling"
    if first["type"] == "union_tag_invalid":
        field, message = "stage", ("there is no such stage; use gain, shape, filter, parallel, feedback, stereo, pair, "
                                   "bank, formants, shapes, allpass, comb or crush")
        if name.startswith("controls."):
            field = "kind"
            message = ("there is no such control; use envelope, lfo, hold, random, steps, follower, signal, figure or "
                       "constant")
    if first["type"] == "union_tag_not_found":
        field = "kind" if name.startswith("controls.") else "stage"
        message, name = f"it is missing; say which {field} this is", name or place
    where = ": ".join(part for part in (name or (place if not field else ""), field) if part) or "the patch"
    return " ".join(f"{where}: {message}.".split())
