"""Reports of a book: the same book the same bytes, every number that of its finding, and what is missing said."""

from __future__ import annotations

import html
import json
import re
from dataclasses import replace
from datetime import date

import numpy as np
import pytest

from jiyuu.bench.blind import Series, keep_series
from jiyuu.bench.measured_beside import beside, measured
from jiyuu.bench.report.from_book import (
    Kind,
    blind,
    comparison,
    datasheet,
    sheet_of,
    shelved_of,
    write_report,
)
from jiyuu.bench.report.printed import html_text
from jiyuu.bench.run import Run, keep
from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.modulation import ModulationSetting, from_files
from jiyuu.bench.steps.tracking import TrackingSetting
from jiyuu.bench.walk import step_named
from jiyuu.book.store import Book
from jiyuu.book.table import Table
from jiyuu.character.blind import Task, right_answer
from jiyuu.character.comparison import Verdict
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.cli.entry import main
from jiyuu.errors import JiyuuError
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.signals.pings import ping_stimulus
from jiyuu.signals.recordings import write_recording
from jiyuu.wording.findings import sentence
from jiyuu.wording.numbers import stated


def run_of(standing: Standing, cutoff_hz: float, *, source: str = "by hand") -> Run:
    hertz = np.geomspace(20, 20_000, 200)
    level = -10 * np.log10(1 + (hertz / cutoff_hz) ** 8)
    table = Table.of("response", ("frequency_hz", "Hz", hertz), ("magnitude_db", "dB", level),
                     ("phase_deg", "°", 0 * hertz), ("uncertainty_db", "dB", 0 * hertz + 0.01),
                     ("snr_db", "dB", 0 * hertz + 60))
    findings = (Finding("cutoff_3db_hz", cutoff_hz, "Hz", 0.4), Finding("peak_db", 3.2, "dB", 0.05),
                Finding("slope_db_per_octave", -24.0, "dB/oct", 0.1, Tolerance(-23.0, -22.0)))
    facts = {"warnings": [{"code": "hum", "sentence": "Hum of 50 Hz <loud> was taken out.", "at_s": None}]}
    return Run("response", standing, step_named("response").setting(), findings, (table,), {}, facts, source)


@pytest.fixture
def book(tmp_path):
    made = Book.create(tmp_path / "voices.jiyuu")
    for letter, name, cutoff_hz in (("A", "transistor-ladder", 800.0), ("B", "ota-cascade", 830.0)):
        document = neutral_filter(name).model_copy(update={"name": f"Voice {letter}", "notes": "Hall & <stair>"})
        row = made.add_filter(letter, document, seed=1)
        keep(made, row, run_of(Standing.of(document, {}), cutoff_hz))
    yield made
    made.close()


def test_a_datasheet_holds_every_finding_as_it_is_said_and_stamps(book):
    text = html_text(datasheet(book, "A"))
    (run,) = book.newest_runs(book.filters()[0].id)
    for logged in book.findings_of_run(run.id):
        assert sentence(logged.finding) in html.unescape(text)
        assert stated(logged.finding.value, logged.finding.uncertainty) in html.unescape(text)
    assert text.count('class="stamp out">out of tolerance') == 2  # at a glance, and where it was found
    assert "Hum of 50 Hz &lt;loud&gt; was taken out." in text
    assert "Hall &amp; &lt;stair&gt;" in text
    assert text.count("<svg") == 2  # drawing and response
    assert "start low when you listen" in text


@pytest.mark.long
def test_the_same_book_gives_the_same_bytes_but_for_the_day_asked_for(book, tmp_path):
    for ending in ("html", "pdf"):
        first, second, dated = (tmp_path / f"{name}.{ending}" for name in ("first", "second", "dated"))
        for path in (first, second):
            write_report(datasheet(book, "A"), path)
        write_report(datasheet(book, "A", on=date(2026, 3, 5)), dated)
        assert first.read_bytes() == second.read_bytes() != dated.read_bytes()
    assert "printed on 5 March 2026" in (tmp_path / "dated.html").read_text()
    assert (tmp_path / "first.pdf").read_bytes().startswith(b"%PDF-")
    with pytest.raises(JiyuuError, match=r"neither \.html nor \.pdf"):
        write_report(datasheet(book, "A"), tmp_path / "report.doc")
    with pytest.raises(JiyuuError, match="voices"):
        write_report(datasheet(book, "A"), book.path, inputs=(book.path,))


def test_what_was_measured_stands_beside_each_other_with_what_it_is_worth(book):
    shelf = book.filters()
    lines = {line.quantity: line for line in beside([measured(book, one) for one in shelf])}
    cutoff = lines["cutoff_3db_hz"]
    assert [value.value for value in cutoff.values] == [800.0, 830.0]
    assert cutoff.difference == pytest.approx(30.0)
    assert cutoff.jnd == pytest.approx(0.05 * 815.0)
    assert cutoff.verdict is Verdict.HARDLY
    assert "Flanagan" in cutoff.jnd_source
    assert lines["peak_db"].verdict is Verdict.NOT_MEASURED
    assert lines["slope_db_per_octave"].verdict is Verdict.NOT_MEASURED
    # A quarter higher, and it is heard; only one of them measured, and nothing is said of it.
    keep(book, shelf[1].id, run_of(Standing.of(shelf[1].document, {}), 1000.0))
    # The short way round a circle.
    angles = [Finding("phase_deg", value, "°", 0.1) for value in (177.0, -177.0)]
    apart, = beside([replace(one, findings={("response", "phase_deg", ""): angle})
                     for one, angle in zip([measured(book, one) for one in shelf], angles, strict=True)])
    assert apart.difference == pytest.approx(6.0)
    third = book.add_filter("C", neutral_filter("state-variable"), seed=1)
    columns = [measured(book, one) for one in book.filters()]
    lines = {line.quantity: line for line in beside(columns)}
    assert lines["cutoff_3db_hz"].verdict is Verdict.HEARD
    assert lines["cutoff_3db_hz"].values[2] is None
    assert third
    sheet = comparison(book, columns)
    row = next(row for part in sheet.parts for row in part.rows if row.cells[0].startswith("Cutoff, −3 dB"))
    assert row.cells[1:] == ("800.0 ± 0.4", "1000.0 ± 0.4", "–", "+200.0 ± 0.6", "heard")


def test_one_filter_at_two_dates_is_a_comparison_too(book):
    one = book.filters()[0]
    first = book.runs(one.id, "response")[0]
    keep(book, one.id, run_of(Standing.of(one.document, {}), 801.5))
    then = measured(book, one, until=first.made_at, name="A then")
    lines = {line.quantity: line for line in beside([then, measured(book, one, name="A now")])}
    assert lines["cutoff_3db_hz"].difference == pytest.approx(1.5)
    assert lines["cutoff_3db_hz"].verdict is Verdict.HARDLY


def test_a_calibration_record_and_blind_series_stand_as_they_are_kept(book):
    one = book.filters()[0]
    standing = Standing.of(one.document, {})
    for kind in (Kind.CALIBRATION, Kind.BLIND):
        with pytest.raises(JiyuuError, match=r"step (Tracking|Comparison)"):
            sheet_of(book, kind, ["A"])
    table = Table.of("tracking", ("volts", "V", [0.0, 1.0]), ("frequency_hz", "Hz", [261.6, 523.9]),
                     ("error_cents", "cents", [0.0, 2.3]), ("amplitude_peak_v", "V", [1.0, 1.0]))
    keep(book, one.id, Run("tracking", replace(standing, trims=replace(standing.trims, offset=-1.5)),
                           TrackingSetting(), (), (table,), {}, {"temperature_c": 31.0, "note": "after supper"}))
    text = html.unescape(html_text(sheet_of(book, Kind.CALIBRATION, ["A"])))
    for said in ("31 °C", "offset -1.5 turns", "after supper", "523.900", "+2.30"):
        assert said in text
    series = Series.begun(Task.ABX, ("A", "B"), 6, seed=3)
    for code in series.order:
        series = series.answered(right_answer(Task.ABX, code))
    keep_series(book, one.id, standing, series, {"source": "saw", "pitch_hz": 110.0, "level_v": 5.0})
    text = html.unescape(html_text(blind(book, "A")))
    assert "6 of 6 right" in text
    assert " ".join(str(code) for code in series.order) in text


def test_the_command_writes_any_kind(book, tmp_path, capsys):
    book.settle()
    out = tmp_path / "both.html"
    assert main(["report", str(book.path), "--kind", "comparison", "--out", str(out), "--json"]) == 0
    text = out.read_text()
    assert re.search(r"<th>A</th>\s*<th>B</th>", text)
    assert "Character, predicted at one cutoff" in text
    for arguments, says in (
        (["--out", str(tmp_path / "x.pdf"), "--kind", "novel"], "give datasheet, comparison, calibration, blind"),
        (["--out", str(tmp_path / "x.pdf"), "--filter", "Q"], "there are: A, B"),
        (["--out", str(tmp_path / "x.pdf"), "--filter", "A", "--filter", "B"], "name one"),
        (["--out", str(book.path)], "would be lost"),
    ):
        assert main(["report", str(book.path), *arguments]) == 2
        assert says in capsys.readouterr().err
    assert not (tmp_path / "x.pdf").exists()


def test_the_command_compares_what_was_measured(book, capsys):
    book.settle()
    assert main(["compare", "A", "B", "--book", str(book.path), "--json"]) == 0
    found = {one["quantity"]: one for one in json.loads(capsys.readouterr().out)["quantities"]}
    assert [one["value"] for one in found["cutoff_3db_hz"]["values"]] == [800.0, 830.0]
    assert found["cutoff_3db_hz"]["difference_uncertainty"] == pytest.approx(0.4 * np.sqrt(2))
    assert main(["compare", "A", "B", "--book", str(book.path)]) == 0
    assert "+30.0 ± 0.6" in capsys.readouterr().out
    assert main(["compare", "A", "Z", "--book", str(book.path)]) == 2
    assert "there are: A, B" in capsys.readouterr().err


def test_what_was_struck_is_drawn_as_it_died_away(book, tmp_path):
    """A ring of 300 Hz that is 60 dB down after 0.2 s, struck three times."""
    rate = 48_000
    played = ping_stimulus(length_s=0.0005, level_v=5.0, every_s=0.5, count=3, sample_rate_hz=float(rate))
    heard, t = np.zeros(played.size), np.arange(rate // 2) / rate
    ring = np.sin(2 * np.pi * 300 * t) * np.exp(-np.log(1000) * t / 0.2)
    pulses = np.flatnonzero(np.diff((np.abs(played) > 1).astype(int)) == 1) + 1
    for begin in pulses:
        room = min(ring.size, heard.size - begin)
        heard[begin : begin + room] += ring[:room]
    heard += np.random.default_rng(2).normal(0, 1e-5, heard.size)
    files = [tmp_path / name for name in ("played.wav", "heard.wav")]
    for path, record in zip(files, (played, heard), strict=True):
        write_recording(path, record, rate)
    standing = Standing.of(shelved_of(book, "A").document)
    *_, run = from_files(standing, ModulationSetting(), *files)
    table = {table.name: table for table in run.tables}["ring"].columns
    inside = (table["time_s"] > 0.02) & (table["time_s"] < 0.2)
    slope = np.polyfit(table["time_s"][inside], table["level_db"][inside], 1)[0]
    assert slope == pytest.approx(-300.0, rel=0.02)
    assert table["level_db"].max() == 0.0
    keep(book, shelved_of(book, "A").id, run)
    (part,) = [part for part in sheet_of(book, Kind.DATASHEET, "A").parts if part.title == "Modulation"]
    assert len(part.pictures) == 1  # struck, not stepped
    assert html_text(sheet_of(book, Kind.DATASHEET, "A")).count("<svg") >= 1
