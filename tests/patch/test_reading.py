"""Patches that are wrong: one sentence each, naming the place."""

import copy
import json

import pytest

from jiyuu.errors import CircuitError
from jiyuu.patch.document import patch_schema
from jiyuu.patch.lowering import network_of
from jiyuu.patch.reading import parse_patch, read_patch, write_patch
from tests.patch.making import patch
from tests.patch.test_response import made

LOWPASS = {"stage": "filter", "id": "first", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 300.0,
           "resonance_gain": 3.2}


def changed(**fields):
    return patch([{**LOWPASS, **fields}])


def without(name):
    document = patch([LOWPASS])
    del document[name]
    return document


def nested(depth):
    inner = [LOWPASS]
    for _ in range(depth):
        inner = [{"stage": "parallel", "branches": [{"path": inner}]}]
    return patch(inner)


WRONG = [
    (without("format"), "format"), (without("version"), "version"), (without("name"), "name"),
    (without("path"), "path"),
    (patch([LOWPASS], version=2), "version"), (patch([LOWPASS]) | {"format": "jiyuu-filter"}, "format"),
    (patch([LOWPASS]) | {"name": ""}, "name"), (patch([LOWPASS]) | {"name": "a" * 121}, "name"),
    (patch([LOWPASS]) | {"name": 7}, "name"), (patch([LOWPASS], colour="red"), "colour"), (patch({}), "path"),
    (patch([7]), r"path\[0\]"), (patch([LOWPASS, {"id": "x"}]), "x: stage"), (patch([{}]), r"path\[0\]: stage"),
    (patch([{"stage": "wah"}]), r"path\[0\]: stage"),
    (patch([{"stage": "crush", "id": "rings", "bits": 0}]), "rings: bits"),
    (changed(filter="no-such"), "first: .*no-such"), (changed(mode="sideways"), "first: .*sideways"),
    (changed(cutoff_hz=-3), "first: cutoff_hz"), (changed(cutoff_hz="wide"), "first: cutoff_hz"),
    (changed(cutoff_hz=True), "first: cutoff_hz"), (changed(resonance_gain=-1), "first: resonance_gain"),
    (changed(resonance_percent=50.0), "first: .*exclude"), (changed(parameters={"girth": 3.0}), "first: .*girth"),
    (changed(parameters={"compensation": 77.0}), "first: .*compensation"), (changed(parameters=3), "first: parameters"),
    (changed(colour="red"), "first: colour"), (changed(id=""), "id"),
    (changed(lowest_hz=500.0, highest_hz=20.0), "first"),
    (changed(filter={"name": "x"}), "first: "), (changed(filter=7), "first: "),
    (patch([{"stage": "gain", "db": "loud", "id": "drive"}]), "drive: db"),
    (patch([{"stage": "gain", "polarity": 2, "id": "drive"}]), "drive: polarity"),
    (patch([{"stage": "gain", "db": 1e6}]), r"path\[0\]: db"),
    (patch([{"stage": "shape", "id": "bent", "kind": "tube"}]), "bent: kind"),
    (patch([{"stage": "shape", "id": "bent", "headroom_v": 0}]), "bent: headroom_v"),
    (patch([{"stage": "shape", "id": "bent", "bias": 0}]), "bent: bias"),
    (patch([{"stage": "parallel", "id": "both"}]), "both: branches"),
    (patch([{"stage": "parallel", "id": "both", "branches": []}]), "both: branches"),
    (patch([{"stage": "parallel", "branches": [{"path": [], "level": 3}]}]), "level"),
    (patch([{"stage": "parallel", "branches": [{"path": [LOWPASS]}, {"path": [LOWPASS]}]}]), "'first'"),
    (patch([{"stage": "feedback", "id": "round", "path": [LOWPASS]}]), "round: amount"),
    (patch([{"stage": "feedback", "id": "round", "path": [], "amount": 1}]), "round: path"),
    (patch([{"stage": "feedback", "id": "round", "path": [LOWPASS], "amount": 1, "through": {"kind": "x"}}]),
     "round: kind"),
    (patch([{"stage": "stereo", "id": "wide", "left": 3}]), "wide: left"),
    (patch([{"stage": "stereo", "id": "wide", "spacing_octaves": 99}]), "wide: spacing_octaves"),
    (patch([LOWPASS, LOWPASS]), "'first'"), (patch([LOWPASS] * 65), "path"), (nested(17), "nested deeper"),
    (patch([LOWPASS], sources=[{"kind": "kazoo"}]), "kind"), (patch([LOWPASS], sources=[{"level_v": -1}]), "level_v"),
    (patch([LOWPASS], sources=[{}] * 9), "sources"), (patch([LOWPASS], controls={"a": {}}), "controls"),
    (patch([LOWPASS], routes=[{}]), "routes"), ([], "not a patch"), (3, "not a patch"),
]


@pytest.mark.parametrize(("document", "place"), WRONG)
def test_a_wrong_patch_is_refused_in_one_sentence_that_names_the_place(document, place):
    with pytest.raises(CircuitError, match=place) as found:
        parse_patch(json.dumps(document), source="made up")
    said = str(found.value)
    assert said.startswith("made up")
    assert "\n" not in said
    assert len(said) < 400


@pytest.mark.parametrize(("text", "place"), [
    ('{"format": "jiyuu-patch", "format": "jiyuu-patch"}', "twice"), ('{"name": NaN}', "NaN"), ("{", "not valid JSON"),
    ('{"name": Infinity}', "Infinity"), ("[" * 100_000, "made up"), ("", "not valid JSON"),
])
def test_text_that_is_no_document(text, place):
    with pytest.raises(CircuitError, match=place):
        parse_patch(text, source="made up")


def test_a_patch_is_written_and_read_again_as_it_was(tmp_path):
    document = made([LOWPASS, {"stage": "stereo", "left": [{"stage": "gain", "db": 3}], "spacing_octaves": 1}],
                    sources=[{"kind": "saw", "pitch_hz": 55, "level_v": 5}])
    write_patch(tmp_path / "a.patch.json", document)
    assert read_patch(tmp_path / "a.patch.json")[0] == document
    too_large = tmp_path / "b.patch.json"
    too_large.write_text(" " * (1 << 20) + "{}")
    with pytest.raises(CircuitError, match="larger"):
        read_patch(too_large)
    with pytest.raises(CircuitError, match="not a file"):
        read_patch(tmp_path / "none.patch.json")


def test_a_filter_may_lie_beside_the_patch_and_what_the_stage_says_goes_before_it(tmp_path):
    (tmp_path / "fog.filter.json").write_text(json.dumps({
        "name": "Fog voice", "circuit": "state-variable", "mode": "bandpass", "cutoff_hz": 700.0,
        "resonance_percent": 40.0}), encoding="utf-8")
    path = tmp_path / "a.patch.json"
    path.write_text(json.dumps(patch([{"stage": "filter", "id": "fog", "filter": "fog.filter.json", "cutoff_hz": 90}])))
    found, files = read_patch(path)
    (stage,) = found.path
    assert (stage.document.cutoff_hz, stage.document.chosen_mode) == (90.0, "bandpass")
    assert stage.loop_gain == stage.document.gain_at(40.0)
    assert files == (path, tmp_path / "fog.filter.json")
    path.write_text(json.dumps(patch([{"stage": "filter", "id": "fog", "filter": "gone.filter.json"}])))
    with pytest.raises(CircuitError, match=r"fog: filter: .*gone"):
        read_patch(path)


def test_names_of_stages_stay_apart_in_the_network():
    twice = copy.deepcopy(LOWPASS) | {"id": "second"}
    network = network_of(made([LOWPASS, twice, {"stage": "shape", "id": "after"}]))
    assert len(set(network.capacitors)) == 8
    assert {name.split()[0] for name in network.capacitors} == {"first", "second"}
    names = [branch.name for branch in network.branches]
    assert len(set(names)) == len(names)


def test_the_published_schema_is_the_models(pytestconfig):
    published = pytestconfig.rootpath / "docs" / "patch.schema.json"
    assert json.loads(published.read_text(encoding="utf-8")) == patch_schema()
