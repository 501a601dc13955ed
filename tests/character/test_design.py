"""Which filter fits a wish: what is promised holds on closed forms, yields agree with builds counted one by one."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jiyuu.character.builds import wilson, yield_of
from jiyuu.character.design import design
from jiyuu.character.subject import Subject
from jiyuu.character.wish import Wish, Wishes, read_wishes
from jiyuu.circuits.components import SERIES
from jiyuu.circuits.filter_file import Filter, parse_filter
from jiyuu.cli.entry import main
from jiyuu.errors import CircuitError
from tests.trials import some

HERTZ = np.geomspace(5.0, 20_000.0, 6001)


def wished(*wishes: tuple[str, float, float], **parts: Any) -> Wishes:
    return Wishes.model_validate({"wishes": [dict(zip(("quantity", "target", "tolerance"), wish, strict=True))
                                             for wish in wishes], "parts": parts})


def ladder_db(cutoffs_hz: np.ndarray, gain: float) -> np.ndarray:
    """(b, n) of ladders whose stages stand at cutoffs (b, 4)."""
    loop = np.full((len(cutoffs_hz), HERTZ.size), 1.0 + 0.0j)
    for stage_hz in cutoffs_hz.T:
        loop *= 1 + 1j * HERTZ / stage_hz[:, np.newaxis]
    return -20 * np.log10(np.abs(loop + gain))


def read(level_db: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(b,) −3 dB points and peaks, re the level at the bottom."""
    re = level_db - level_db[:, :1]
    peak = re.max(axis=1)
    last = re.shape[1] - 1 - np.argmax((re > -3.0103)[:, ::-1], axis=1)
    rows = np.arange(re.shape[0])
    share = (re[rows, last] + 3.0103) / (re[rows, last] - re[rows, last + 1])
    return np.exp(np.log(HERTZ[last]) + share * np.log(HERTZ[1] / HERTZ[0])), peak


@pytest.mark.long
def test_what_is_proposed_meets_the_wish_on_the_closed_form() -> None:
    found = design(wished(("cutoff_3db_hz", 1000.0, 20.0), ("peak_db", 6.0, 0.5), ("slope_db_per_octave", -24.0, 2.0),
                          series="E12", capacitor_percent=1.0))
    assert found.fight is None
    one = next(one for one in found.proposals if one.subject.filter.circuit == "transistor-ladder")
    (edge,), (peak,) = read(ladder_db(np.full((1, 4), one.subject.cutoff_hz), one.subject.gain))
    assert edge == pytest.approx(1000.0, abs=20.0)
    assert peak == pytest.approx(6.0, abs=0.5)
    assert one.predicted["cutoff_3db_hz"] == pytest.approx(edge, rel=1e-3)
    assert one.predicted["peak_db"] == pytest.approx(peak, abs=5e-3)


@pytest.mark.long
@pytest.mark.parametrize(("percent", "tolerance_hz"), some([(2.0, 15.0), (5.0, 25.0)], 1, long=2))
def test_a_yield_agrees_with_builds_counted_one_by_one(percent: float, tolerance_hz: float) -> None:
    gain, cutoff_hz = 1.6, 800.0
    document = Filter(name="one", circuit="transistor-ladder")
    (edge,), (peak,) = read(ladder_db(np.full((1, 4), cutoff_hz), gain))
    wishes = [Wish(quantity="cutoff_3db_hz", target=edge + 5, tolerance=tolerance_hz),
              Wish(quantity="peak_db", target=peak, tolerance=0.4)]
    found = yield_of(Subject(document, "lowpass-24", cutoff_hz, gain), wishes, percent)
    draws = np.random.default_rng(99).standard_normal((2000, 4)) * percent / 100
    parts = [read(ladder_db(cutoff_hz / (1 + some), gain)) for some in np.split(draws, 20)]
    edges, peaks = np.concatenate(parts, axis=1)
    counted = np.mean((np.abs(edges - edge - 5) <= tolerance_hz) & (np.abs(peaks - peak) <= 0.4))
    low, high = wilson(round(counted * 2000), 2000)
    assert found.low <= high
    assert low <= found.high
    assert 0.2 < found.value < 0.99
    assert found.costs_most is not None
    assert found.if_exact >= found.at_half >= found.value


@pytest.mark.long
def test_parts_are_of_the_series_and_the_file_holds_together() -> None:
    found = design(wished(("cutoff_3db_hz", 430.0, 10.0), ("peak_db", 9.0, 1.0), series="E6", capacitor_percent=5.0))
    assert found.proposals
    for one in found.proposals:
        parts = one.components
        for value in (parts.capacitor_f, parts.loop_ohm, parts.resonance_ohm):
            assert value is not None
            mantissa = value / 10 ** np.floor(np.log10(value) + 1e-9)
            assert min(abs(mantissa - each) for each in SERIES["E6"]) < 1e-6
        again = parse_filter(one.subject.filter.model_dump_json(), source="proposal")
        assert again.gain_at(again.resonance_percent) == pytest.approx(one.subject.gain, rel=1e-9)
        assert again.cutoff_hz == pytest.approx(one.subject.cutoff_hz, rel=1e-9)


@pytest.mark.long
def test_wishes_that_fight_are_named() -> None:
    found = design(wished(("slope_db_per_octave", -24.0, 1.0), ("low_slope_db_per_octave", 12.0, 1.0)))
    assert not found.proposals
    assert found.fight is not None
    assert {found.fight.first, found.fight.second} == {"slope_db_per_octave", "low_slope_db_per_octave"}
    assert found.fight.off > 1
    alone = design(wished(("slope_db_per_octave", -60.0, 2.0), ("peak_db", 3.0, 1.0)))
    assert alone.fight is not None
    assert (alone.fight.first, alone.fight.second) == ("slope_db_per_octave", None)


def test_a_file_that_is_no_wish_is_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "a.wish.json"
    for text, says in (
        ("{", "not valid JSON"), ("{}", "wishes"), ('{"wishes": []}', "wishes"),
        ('{"wishes": [{"quantity": "warmth", "target": 1, "tolerance": 1}]}', "no quantity"),
        ('{"wishes": [{"quantity": "peak_db", "target": 1, "tolerance": 0}]}', "tolerance"),
        ('{"wishes": [{"quantity": "peak_db", "target": NaN, "tolerance": 1}]}', "NaN"),
        ('{"wishes": [{"quantity": "peak_db", "target": 1, "tolerance": 1, "colour": 2}]}', "not known"),
        ('{"wishes": [{"quantity": "peak_db", "target": 1, "tolerance": 1}], "parts": {"series": "E13"}}', "series"),
    ):
        path.write_text(text)
        with pytest.raises(CircuitError, match=says):
            read_wishes(path)
        assert main(["design", str(path)]) == 2
        said = capsys.readouterr()
        assert said.err.startswith("jiyuu: ")
        assert said.err.count("\n") == 1


def test_the_command_states_everything(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "band.wish.json"
    path.write_text(json.dumps({
        "format": "jiyuu-wish", "version": 1, "parts": {"series": "E24", "capacitor_percent": 1},
        "wishes": [{"quantity": "peak_hz", "target": 640, "tolerance": 15}, {"quantity": "q", "target": 4,
                                                                          "tolerance": 0.5, "weight": 2}]}))
    assert main(["design", str(path), "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["sentence"].endswith(".")
    for one in found["proposals"]:
        assert {"circuit", "mode", "cutoff_hz", "resonance_gain", "parameters", "components", "predicted", "yield",
                "costs_most"} <= {*one}
        assert abs(one["predicted"]["peak_hz"] - 640) <= 15
        assert abs(one["predicted"]["q"] - 4) <= 0.5
        assert one["yield"]["low"] <= one["yield"]["value"] <= one["yield"]["high"]
        assert one["yield"]["builds"] >= 2000


def test_the_published_schema_is_that_of_the_wishes(pytestconfig: pytest.Config) -> None:
    published = json.loads((pytestconfig.rootpath / "docs" / "wish.schema.json").read_text())
    assert published == Wishes.model_json_schema()
