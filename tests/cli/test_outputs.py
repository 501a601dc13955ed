"""What commands print as JSON is what the published schema says, of every command that prints any."""

import json
from pathlib import Path
from typing import Any

import pytest

from tests.cli.outputs import MADE, commands_with_json
from tests.trials import some

SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "outputs.schema.json").read_text(encoding="utf-8"))
KINDS = {"object": dict, "array": list, "string": str, "boolean": bool, "number": (int, float), "null": type(None)}


def wrong(value: Any, schema: dict[str, Any], place: str = "") -> list[str]:
    """Where a value is not as this part of the schema has it: of JSON Schema what is used there."""
    if "$ref" in schema:
        return wrong(value, SCHEMA["$defs"][schema["$ref"].rpartition("/")[2]], place)
    if "anyOf" in schema:
        found = [wrong(value, one, place) for one in schema["anyOf"]]
        return [] if [] in found else found[0]
    kinds = schema.get("type", list(KINDS))
    kinds = [kinds] if isinstance(kinds, str) else kinds
    if not any(isinstance(value, KINDS[kind]) and (kind == "boolean") == isinstance(value, bool) for kind in kinds):
        return [f"{place} is {type(value).__name__}, not {' or '.join(kinds)}"]
    if isinstance(value, list):
        return [line for i, one in enumerate(value) for line in wrong(one, schema.get("items", {}), f"{place}[{i}]")]
    if not isinstance(value, dict):
        return []
    own, others = schema.get("properties", {}), schema.get("additionalProperties", True)
    lines = [f"{place} lacks {name}" for name in schema.get("required", ()) if name not in value]
    for name, one in value.items():
        if name not in own and others is False:
            lines.append(f"{place} has {name}, which is not described")
        else:
            lines += wrong(one, own.get(name, others if isinstance(others, dict) else {}), f"{place}.{name}")
    return lines


def test_every_command_that_prints_json_is_described():
    assert sorted(SCHEMA["properties"]) == sorted(commands_with_json())
    assert {*MADE, "characterise"} == {*commands_with_json()}


@pytest.mark.parametrize("command", some([*MADE], 6, long=len(MADE)))
def test_what_is_printed_is_as_described(command, tmp_path):
    assert wrong(MADE[command](tmp_path), SCHEMA["properties"][command]) == []


def test_a_characterisation_is_as_described(characterised):
    folder, _, printed = characterised
    assert wrong(json.loads(printed), SCHEMA["properties"]["characterise"]) == []
    assert json.loads(printed) == json.loads((folder / "findings.json").read_text(encoding="utf-8"))


@pytest.mark.parametrize(("value", "says"), [
    ({"kind": 1}, "lacks"), ({"nobody": 1}, "not described"), ([], "not object"),
])
def test_what_is_not_as_described_is_found(value, says):
    assert any(says in line for line in wrong(value, SCHEMA["properties"]["measure tone"]))
