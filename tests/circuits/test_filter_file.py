"""Filter files: what is read, what is refused and in which words, the published schema."""

import json
from pathlib import Path

import pytest

from jiyuu.circuits.filter_file import Filter, filter_schema, neutral_filter, parse_filter, read_filter, write_filter
from jiyuu.errors import CircuitError

GOOD = {"name": "Fog voice", "circuit": "state-variable", "cutoff_hz": 500.0, "parameters": {"stage_headroom_v": 2.0}}


def test_a_filter_comes_back_as_it_was_written(tmp_path):
    document = Filter(name="Fog voice", circuit="diode-ladder", resonance_percent=30, notes="Boathouse – wet")
    write_filter(tmp_path / "a.filter.json", document)
    assert read_filter(tmp_path / "a.filter.json") == document
    assert list(tmp_path.iterdir()) == [tmp_path / "a.filter.json"]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "not valid JSON"),
        ('{"name": "x", ', "not valid JSON"),
        ("[1, 2]", "not a filter"),
        ("[" * 100_000, "x.json"),
        (json.dumps({**GOOD, "cutof_hz": 5}), "cutof_hz: this key is not known"),
        ('{"name": "x", "name": "y", "circuit": "state-variable"}', "'name' stands there twice"),
        (json.dumps({**GOOD, "circuit": "ladder"}), "there is no circuit 'ladder'"),
        (json.dumps({**GOOD, "cutoff_hz": 0}), "cutoff_hz"),
        (json.dumps({**GOOD, "cutoff_hz": -5}), "cutoff_hz"),
        (json.dumps({**GOOD, "cutoff_hz": 1e6}), "cutoff_hz"),
        ('{"name": "x", "circuit": "state-variable", "cutoff_hz": NaN}', "NaN is not a value"),
        ('{"name": "x", "circuit": "state-variable", "cutoff_hz": 1e999}', "cutoff_hz"),
        (json.dumps({**GOOD, "parameters": {"morf": 0.5}}), "no parameter 'morf'"),
        (json.dumps({**GOOD, "parameters": {"morph": 7}}), "out of range"),
        (json.dumps({**GOOD, "mode": "lowpass-48"}), "no mode 'lowpass-48'"),
        (json.dumps({**GOOD, "tolerances": {"rail_v": -1}}), "tolerances.rail_v"),
        (json.dumps({**GOOD, "version": 2}), "version"),
        (json.dumps({**GOOD, "resonance_taper": "cubic"}), "resonance_taper"),
        (json.dumps({**GOOD, "resonance_taper": [[0, 0], [0.5, 2], [1, 1]]}), "taper table"),
    ],
)
def test_a_file_that_makes_no_sense_says_where(text, message):
    with pytest.raises(CircuitError, match=message):
        parse_filter(text, source="x.json")


def test_files_that_are_not_filters_are_refused_before_they_are_read(tmp_path):
    with pytest.raises(CircuitError, match="is not a file"):
        read_filter(tmp_path / "missing.filter.json")
    with pytest.raises(CircuitError, match="is not a file"):
        read_filter(tmp_path)
    (tmp_path / "binary.json").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(CircuitError, match="not text in UTF-8"):
        read_filter(tmp_path / "binary.json")
    (tmp_path / "huge.json").write_bytes(b" " * (2 << 20))
    with pytest.raises(CircuitError, match="larger than a filter file"):
        read_filter(tmp_path / "huge.json")


def test_the_published_schema_is_the_one_in_force():
    published = Path(__file__).parents[2] / "docs" / "filter.schema.json"
    assert json.loads(published.read_text(encoding="utf-8")) == filter_schema()


def test_resonance_travel_and_loop_gain_are_each_others_inverse():
    document = neutral_filter("transistor-ladder")
    assert document.gain_at(100) == pytest.approx(4.4)
    assert document.percent_at(document.gain_at(37.0)) == pytest.approx(37.0)
    assert Filter(name="x", circuit="ota-cascade", full_gain=5.0).gain_at(50) == 2.5
    log = Filter(name="x", circuit="ota-cascade", full_gain=5.0, resonance_taper="log")
    assert log.gain_at(50) == pytest.approx(0.5)
    assert log.percent_at(0.5) == pytest.approx(50)
    table = Filter(name="x", circuit="ota-cascade", full_gain=5.0, resonance_taper=[(0, 0), (0.4, 0.8), (1, 1)])
    assert table.gain_at(20) == pytest.approx(2.0)
