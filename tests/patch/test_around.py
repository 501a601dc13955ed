"""A filter with a path round it against the arithmetic of the parts, and what is done to a path."""

import json

import numpy as np
import pytest

from jiyuu.bench.patched import filled_path, patch_of, taken
from jiyuu.bench.standing import Standing
from jiyuu.circuits.linear import complex_gain, onset
from jiyuu.circuits.many_units import levels_over_resonance
from jiyuu.errors import CircuitError
from jiyuu.patch.editing import (
    inserted,
    moved,
    opened,
    place_of,
    places,
    put_beside_dry,
    put_into_loop,
    removed,
    stage_at,
)
from jiyuu.patch.joints import joints_of
from jiyuu.patch.reading import parse_patch
from tests.patch.making import gain_of, patch, random_filter, random_path

HZ = np.geomspace(15, 21_000, 40)


def made(path, **more):
    return parse_patch(json.dumps(patch(path, **more)), source="made up")


def stood(path, **more):
    found = taken(made(path, **more))
    return Standing.of(found.document, found.kept)


def with_filter(seed):
    generator = np.random.default_rng(seed)
    path = random_path(generator, longest=4)
    path.insert(int(generator.integers(0, len(path) + 1)), random_filter(generator))
    return path


@pytest.mark.parametrize("seed", range(40))
def test_taken_in_hand_it_answers_as_the_arithmetic_of_its_parts(seed):
    path = with_filter(seed)
    standing = stood(path)
    expected = gain_of(path, HZ)
    gain = complex_gain(standing.network, HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                        modes=[standing.mode])[0]
    assert gain == pytest.approx(expected, rel=1e-6, abs=1e-9 * np.abs(expected).max())
    many = levels_over_resonance(standing.network, HZ, [standing.mode], cutoff_hz=standing.standing_hz,
                                 gains=np.array([standing.gain]))[0, 0]
    seen = np.abs(expected) > 1e-8 * np.abs(expected).max()
    assert many[seen] == pytest.approx(20 * np.log10(np.abs(expected[seen])), abs=1e-3)
    again = taken(parse_patch(patch_of(standing, "again").model_dump_json(by_alias=True, exclude_none=True),
                              source="again"))
    assert again.kept == taken(made(path)).kept


@pytest.mark.parametrize("seed", range(12))
def test_moving_its_knobs_moves_it_and_nothing_else(seed):
    path = with_filter(seed + 100)
    standing = stood(path).moved(cutoff_hz=777.0, resonance_percent=20.0)
    first = next(stage for _, stage in places(made(path).path) if stage.stage == "filter")
    text = json.dumps(path)
    for field, value in (("cutoff_hz", standing.standing_hz), ("resonance_gain", standing.gain)):
        was = getattr(first, field)
        text = text.replace(f'"{field}": {was!r}', f'"{field}": {value!r}', 1)
    expected = gain_of(json.loads(text), HZ)
    gain = complex_gain(standing.network, HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                        modes=[standing.mode])[0]
    assert gain == pytest.approx(expected, rel=1e-6, abs=1e-9 * np.abs(expected).max())


def test_onset_moves_with_the_loop_round_it():
    """Feedback of a ladder's output adds to its own loop gain: (1 + s)⁴ + k − a."""
    for amount in (-1.5, 0.7):
        standing = stood([{"stage": "feedback", "amount": amount, "path": [
            {"stage": "filter", "filter": "transistor-ladder", "cutoff_hz": 440.0, "resonance_gain": 1.0}]}])
        assert onset(standing.network, cutoff_hz=440.0).gain == pytest.approx(4 + amount, rel=1e-9)


def test_a_side_of_its_own_and_the_filters_that_are_off():
    ladder = {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 500.0,
              "resonance_gain": 1.0}
    other = {"stage": "filter", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 900.0,
             "resonance_gain": 0.4}
    split = [{"stage": "stereo", "left": [], "right": [ladder], "spacing_octaves": 1.0}, {**other, "off": True}]
    standing = stood(split)
    assert standing.setup.side == "right"
    gain = complex_gain(standing.network, HZ, cutoff_hz=500.0, gain=1.0, modes=["lowpass-24"])[0]
    assert gain == pytest.approx(gain_of([ladder], HZ, 0.5), rel=1e-9)
    with pytest.raises(CircuitError, match="not heard on the left side"):
        standing.moved(setup=standing.setup.changed(side="left")).network.output_index("lowpass-24")
    with pytest.raises(CircuitError, match="no filter"):
        taken(made([{"stage": "gain", "db": 3.0}]))
    with pytest.raises(CircuitError, match="cannot be switched off"):
        standing.setup.changed(path=[{**standing.setup.path[0].model_dump(), "off": True}])


def test_level_and_trim_are_the_ends_of_the_path():
    ladder = {"stage": "filter", "filter": "transistor-ladder", "cutoff_hz": 500.0, "resonance_gain": 9.0}
    standing = stood([{"stage": "gain", "id": "level", "db": 6.0}, ladder, {"stage": "gain", "id": "trim", "db": -3.0}])
    assert (standing.setup.drive_db, standing.setup.trim_db, standing.setup.path) == (6.0, -3.0, ())
    assert standing.gain == 9.0  # past the end of its usual control
    assert standing.filter.network().capacitors == standing.document.network().capacitors


@pytest.mark.parametrize("seed", range(10))
def test_volts_behind_every_stage(seed):
    """By the arithmetic of the path cut there; the level chosen so low that no curve limits it."""
    generator = np.random.default_rng(seed)
    path = [random_filter(generator), {"stage": "parallel", "branches": [
        {"path": [random_filter(generator), {"stage": "gain", "db": 3.0}], "level_db": -2.0}, {"path": []}]},
        {"stage": "shape", "kind": "clip", "headroom_v": 1.0}, {"stage": "gain", "db": 2.0, "off": True}]
    filled = filled_path(stood(path))
    found = joints_of(filled, HZ, lambda heard: 1e-3 * float(np.abs(heard[()]).max()))
    inner = path[1]["branches"][0]["path"]
    cut = {(0,): path[:1], (1,): path[:2], (2,): path[:2], (3,): path[:2],
           (1, 0, 0): [path[0], inner[0]], (1, 0, 1): [path[0], *inner]}
    for place, parts in cut.items():
        assert found.peak_v[place] == pytest.approx(1e-3 * np.abs(gain_of(parts, HZ)).max(), rel=1e-6), place
    loud = joints_of(filled, HZ, lambda heard: 1e3 * float(np.abs(heard[()]).max()))
    assert loud.output_v == pytest.approx(1.0)


def test_volts_inside_a_loop():
    ladder = {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 500.0,
              "resonance_gain": 1.0}
    path = [{"stage": "feedback", "amount": -0.8, "path": [{"stage": "gain", "db": 4.0}, ladder]}]
    found = joints_of(filled_path(stood(path)), HZ, lambda heard: float(np.abs(heard[()]).max()))
    whole = gain_of(path, HZ)
    assert found.peak_v[0, 0, 1] == pytest.approx(np.abs(whole).max(), rel=1e-9)
    assert found.peak_v[0, 0, 0] == pytest.approx(np.abs(whole / gain_of([ladder], HZ)).max(), rel=1e-9)


# What is done to a path

def named(path):
    return [(place, stage.id or stage.stage) for place, stage in places(path)]


def test_stages_are_moved_within_their_path_and_out_of_what_holds_them():
    path = made([{"stage": "gain", "id": "a"}, {"stage": "parallel", "id": "p", "branches": [
        {"path": [{"stage": "gain", "id": "b"}, {"stage": "gain", "id": "c"}]}, {"path": []}]}]).path
    path, place = moved(path, place_of(path, "b"), 1)
    assert named(path)[2:] == [((1, 0, 0), "c"), ((1, 0, 1), "b")]
    path, place = moved(path, place, 1)
    assert (place, stage_at(path, place).id) == ((2,), "b")
    path, place = moved(path, place_of(path, "c"), -1)
    assert [name for _, name in named(path)] == ["a", "c", "p", "b"]
    assert moved(path, (0,), -1) == (path, (0,))


def test_stages_are_put_beside_dry_into_a_loop_and_out_again():
    path = made([{"stage": "shape", "id": "bent"}]).path
    beside = put_beside_dry(path, (0,))
    assert [len(limb.path) for limb in beside[0].branches] == [1, 0]
    looped = put_into_loop(beside, (0, 0, 0))
    assert named(looped) == [((0,), "parallel"), ((0, 0, 0), "feedback"), ((0, 0, 0, 0, 0), "bent")]
    assert opened(opened(looped, (0, 0, 0)), (0,)) == path
    assert removed(inserted(path, (0,), path[0]), (1,)) == path
    with pytest.raises(CircuitError, match="take the feedback itself out"):
        moved(looped, (0, 0, 0, 0, 0), 1)
    with pytest.raises(CircuitError, match="Only a branch"):
        opened(path, (0,))


def test_volts_of_a_branch_with_a_source_of_its_own():
    ladder = {"stage": "filter", "filter": "state-variable", "mode": "lowpass", "cutoff_hz": 500.0,
              "resonance_gain": 1.0}
    own = {"path": [ladder], "sources": [{"kind": "saw", "pitch_hz": 55.0}], "level_db": -6.0}
    hand = {"stage": "filter", "filter": "transistor-ladder", "mode": "lowpass-24", "cutoff_hz": 19000.0,
            "resonance_gain": 0.0}
    path = [hand, {"stage": "gain", "db": 6.0}, {"stage": "parallel", "branches": [own, {"path": []}]},
            {"stage": "gain", "db": 20.0}]

    def peak_of(heard):
        """What comes in is 1 V, the branch's own source 100 V."""
        return sum((100.0 if branch else 1.0) * float(np.abs(gain).max()) for branch, gain in heard.items())

    found = joints_of(filled_path(stood(path)), HZ, peak_of)
    inner = float(np.abs(gain_of([ladder], HZ)).max())
    dry = float(np.abs(gain_of([hand], HZ)).max()) * 10**0.3
    assert found.peak_v[1,] == pytest.approx(dry, rel=1e-9)
    assert found.peak_v[2, 0, 0] == pytest.approx(100 * inner, rel=1e-9)
    assert found.peak_v[2,] == pytest.approx(100 * inner * 10**-0.3 + dry, rel=1e-9)
    assert found.output_v == pytest.approx(10 * found.peak_v[2,], rel=1e-9)
