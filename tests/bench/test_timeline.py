"""What a book holds in the order of time: every act once, sought by anything, a unit over days."""

from datetime import date

import pytest

from jiyuu.bench.standing import Standing
from jiyuu.bench.timeline import Kind, Sought, course, days, entries, filtered, moved_since
from jiyuu.book.store import Book
from jiyuu.circuits.trims import Trims
from jiyuu.measurement.finding import Verdict
from tests.book.test_exchange import spoil, written


@pytest.fixture(scope="module")
def demo(measured_demo, tmp_path_factory):
    path = tmp_path_factory.mktemp("timeline") / "demo.jiyuu"
    path.write_bytes(measured_demo.read_bytes())
    book = Book.open(path)
    yield book
    book.close()


def kinds(found):
    return [entry.kind for entry in found]


@pytest.mark.long
def test_the_demo_is_three_evenings_in_the_order_of_their_acts(demo):
    found = entries(demo)
    assert [entry.at for entry in found] == sorted((entry.at for entry in found), reverse=True)
    assert days(found) == [date(2026, 3, 2), date(2026, 3, 5), date(2026, 3, 19)]
    assert kinds(found).count(Kind.RUN) == 4
    assert kinds(found).count(Kind.FINDING) == len(demo.logbook()) == 2
    assert kinds(found).count(Kind.NOTE) == 2
    assert kinds(found).count(Kind.SHELF) == 6
    first, second = (entry for entry in reversed(found) if entry.kind is Kind.RUN and entry.letter == "A")
    assert first.verdict is Verdict.OUTSIDE
    assert second.verdict is Verdict.INSIDE
    assert [entry.text for entry in reversed(found) if entry.kind is Kind.TRIM] == [
        "Trims turned: offset at −5.00 turns.", "Trims turned back to where they were built."]


@pytest.mark.parametrize(("sought", "fits"), [
    (Sought(words="seaWARD"), lambda entry: False),
    (Sought(words="bell trim"), lambda entry: "bell" in entry.text),
    (Sought(letter="B"), lambda entry: entry.letter == "B"),
    (Sought(step="response", kind=Kind.RUN), lambda entry: entry.kind is Kind.RUN),
    (Sought(verdict=Verdict.OUTSIDE), lambda entry: entry.verdict is Verdict.OUTSIDE),
    (Sought(day=date(2026, 3, 5), letter="A"), lambda entry: (entry.day, entry.letter) == (date(2026, 3, 5), "A")),
    (Sought(words="pole_hz"), lambda entry: entry.quantity == "pole_hz"),
])
def test_it_is_sought_by_words_filter_step_kind_stamp_and_day(demo, sought, fits):
    found = entries(demo)
    assert filtered(found, sought) == [entry for entry in found if fits(entry)]


def test_a_quantity_has_its_line_over_the_days(demo):
    (first, *_, last) = sorted((run for run in demo.all_runs() if demo.letters()[run.filter_id] == "A"),
                               key=lambda run: run.id)
    finding = next(logged.finding for logged in demo.findings_of_run(last.id) if logged.finding.quantity == "pole_hz")
    found = course(demo, last, finding)
    assert [point.run_id for point in found.points] == [first.id, last.id]
    assert [point.at for point in found.points] == sorted(point.at for point in found.points)
    # Five turns of the offset trim are worth 75 cents.
    ratio = found.points[1].value / found.points[0].value
    assert ratio == pytest.approx(2 ** (75 / 1200), rel=1e-3)
    assert found.drift == pytest.approx(found.points[1].value - found.points[0].value)
    assert found.tolerance.low < found.points[1].value < found.tolerance.high


def test_what_stands_otherwise_is_told_in_its_unit(demo):
    shelved = demo.filters()[0]
    then = Standing.of(shelved.document).moved(trims=Trims(offset=-5.0), resonance_percent=10.0)
    now = Standing.of(shelved.document)
    told = [(one.what, one.then, one.now) for one in moved_since(then.as_json(), now.as_json())]
    assert told == [("Resonance", "10 %", "45 %"), ("Offset trim", "−5 turns", "0 turns")]
    assert moved_since(now.as_json(), now.as_json()) == []
    assert moved_since({"cutoff_hz": "high", "trims": 3}, now.as_json())[0].then == "high"


def test_what_cannot_be_dated_or_read_is_left_out(tmp_path):
    path = written(tmp_path / "a.jiyuu")
    spoil(path, ("UPDATE notes SET made_at = 'yesterday'", ()), ("UPDATE actions SET after = '[]'", ()),
          ("UPDATE runs SET setting = '{' WHERE id = 1", ()), ("UPDATE findings SET kept_at = x'ff' WHERE id = 3", ()))
    book = Book.open(path)
    found = entries(book)
    assert {(entry.kind, entry.number) for entry in found} == {
        (Kind.RUN, 2), (Kind.RUN, 3), (Kind.FINDING, 1), (Kind.FINDING, 5)}
    book.close()
