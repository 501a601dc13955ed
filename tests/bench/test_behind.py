"""What stands ahead of the filter or behind it and is no network: heard, but no part of what is measured."""

import json

import numpy as np
import pytest

from jiyuu.bench.heard import Heard, heard_record
from jiyuu.bench.live import BLOCK, BehindIt, Voice, kind_of, looped_source
from jiyuu.bench.patched import beside_of, filled_path, patch_of, taken
from jiyuu.bench.run import Run, keep
from jiyuu.bench.setup import Setup
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import step_named, why_out_of_date
from jiyuu.book.store import Book
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.cli.entry import main
from jiyuu.errors import CircuitError
from jiyuu.patch.reading import parse_patch, write_patch
from tests.patch.making import patch

OWN = {"stage": "filter", "id": "own", "filter": "ota-cascade", "cutoff_hz": 700.0, "resonance_gain": 2.0}
COMB = {"stage": "comb", "id": "comb", "frequency_hz": 220.0, "feedback": 0.6}
SHAPES = {"stage": "shapes", "bands": [{"gain_db": 6.0}]}


def standing_of(*path):
    found = taken(parse_patch(json.dumps(patch([*path])), source="made up"))
    return Standing.of(found.document, found.kept)


def test_the_path_is_parted_at_the_first_that_is_no_network():
    standing = standing_of(SHAPES, OWN, SHAPES, COMB, SHAPES)
    assert [stage.stage for stage in standing.setup.joined] == ["shapes", "filter", "shapes"]
    assert [stage.stage for stage in standing.setup.behind] == ["comb", "shapes"]
    assert beside_of(standing) == ((), filled_path(standing)[3:])
    standing = standing_of(SHAPES, COMB, SHAPES, OWN, SHAPES, {**COMB, "id": "other"})
    assert [stage.stage for stage in standing.setup.ahead] == ["shapes", "comb"]
    assert [stage.stage for stage in standing.setup.joined] == ["shapes", "filter", "shapes"]
    assert beside_of(standing) == (filled_path(standing)[:2], filled_path(standing)[5:])
    assert standing.setup.joins
    assert not standing_of(OWN, COMB).setup.joins
    assert standing_of(OWN, {**COMB, "off": True}, SHAPES).setup.behind == ()
    assert standing_of(OWN).setup.behind == ()


@pytest.mark.parametrize("path", [
    ({"stage": "parallel", "branches": [{"path": [OWN, COMB]}, {}]},),
    ({"stage": "feedback", "amount": 0.3, "path": [OWN, COMB]},)])
def test_round_it_it_is_refused(path):
    with pytest.raises(CircuitError, match="stands between networks"):
        standing_of(*path)


def test_the_network_and_what_is_measured_are_those_without_it(tmp_path):
    alone, behind = standing_of(OWN, SHAPES), standing_of(OWN, SHAPES, COMB)
    assert alone.network.capacitors == behind.network.capacitors
    assert alone.built == behind.built
    assert standing_of(OWN, COMB).outputs == standing_of(OWN).outputs  # every mode of the filter alone
    book = Book.create(tmp_path / "one.jiyuu")
    row = book.add_filter("A", behind.document, seed=1)
    step = step_named("response")
    keep(book, row, Run("response", alone, step.setting(), (), (), {}, {}, "by hand"))
    (stored,) = book.newest_runs(row)
    assert why_out_of_date(step, behind, step.setting(), stored) is None
    other = standing_of(OWN, {**SHAPES, "bands": [{"gain_db": 7.0}]}, COMB)
    assert why_out_of_date(step, other, step.setting(), stored) is not None
    book.close()


def test_a_delay_of_half_a_period_is_heard_as_its_gain():
    """A comb of 220 Hz passes 110 Hz and its odd multiples by 1/(1 + g), the even ones by 1/(1 − g)."""
    setup = Setup(path=standing_of(OWN, COMB).setup.path, in_hand="own")
    standing = Standing.of(neutral_filter("ota-cascade"), {}).moved(
        setup=setup.model_copy(update={"inputs": Setup(inputs=[{"kind": "saw", "pitch_hz": 110.0, "level_v": 0.05}]
                                                      ).inputs}))
    alone = standing.moved(setup=standing.setup.model_copy(update={"path": ()}))
    heard = [np.abs(np.fft.rfft(heard_record(one, Heard.FILTER, duration_s=1.0))) for one in (alone, standing)]
    for harmonic in range(1, 7):
        ratio = heard[1][110 * harmonic] / heard[0][110 * harmonic]
        assert ratio == pytest.approx(1 / (1 - 0.6) if harmonic % 2 == 0 else 1 / (1 + 0.6), rel=2e-3)


def test_ahead_of_it_a_soft_sound_is_as_behind_it_and_a_loud_one_is_not():
    """What is straight may change places; what bends may not."""
    def heard(level_v, *path):
        source = Setup(inputs=[{"kind": "saw", "pitch_hz": 110.0, "level_v": level_v}]).inputs
        standing = standing_of(*path)
        return heard_record(standing.moved(setup=standing.setup.model_copy(update={"inputs": source})), Heard.FILTER,
                            duration_s=0.5) / level_v

    soft, loud = (np.std(heard(level_v, COMB, OWN) - heard(level_v, OWN, COMB)) for level_v in (1e-3, 5.0))
    assert soft < 1e-4 * np.std(heard(1e-3, COMB, OWN)) < 0.1 * loud
    crushed = {"stage": "crush", "rate_hz": 48_000.0, "bits": 3}  # of ±10 V: steps of 2.5 V
    assert not heard(0.5, crushed, OWN).any()
    assert heard(0.5, OWN).any()


def test_an_ear_hears_a_round_of_it_and_another_one_when_it_changes():
    standing, other = standing_of(OWN, COMB), standing_of(OWN, {**COMB, "feedback": 0.5})
    assert kind_of(standing, Heard.FILTER) != kind_of(other, Heard.FILTER)
    assert kind_of(standing, Heard.SOURCE) == kind_of(other, Heard.SOURCE)
    voice = BehindIt(standing)
    assert voice.kind == kind_of(standing, Heard.FILTER)
    assert voice.block().size == BLOCK
    plain = Voice(standing, Heard.FILTER, looped_source(standing, Heard.FILTER))
    assert np.std(voice.block()) != pytest.approx(np.std(plain.block()), rel=0.05)


def test_the_patch_file_holds_all_of_it():
    standing = standing_of(OWN, COMB)
    assert [stage.stage for stage in patch_of(standing, "both").path] == ["filter", "comb"]


@pytest.mark.long
def test_the_command_line_says_what_it_does_not_count(tmp_path, capsys):
    files = [tmp_path / name for name in ("with.patch.json", "without.patch.json")]
    for path, stages in zip(files, ((OWN, COMB), (OWN,)), strict=True):
        write_patch(path, parse_patch(json.dumps(patch([*stages])), source="made up"))
    said, numbers = [], []
    for path in files:
        assert main(["character", str(path), "--json"]) == 0
        out, err = capsys.readouterr()
        said.append(err)
        numbers.append(json.loads(out))
    assert "not counted: the comb behind the filter" in said[0]
    write_patch(files[0], parse_patch(json.dumps(patch([COMB, OWN])), source="made up"))
    assert main(["character", str(files[0]), "--json"]) == 0
    out, err = capsys.readouterr()
    assert "not counted: the comb ahead of the filter" in err
    assert json.loads(out) == numbers[0]
    assert "not counted" not in said[1]
    assert numbers[0] == numbers[1]
    gains = []
    for path in files:
        assert main(["respond", str(path), "--json", "--points", "50"]) == 0
        out, err = capsys.readouterr()
        assert "not counted" not in err
        gains.append(json.loads(out))
    assert gains[0] != gains[1]
