"""Reports of what stands in a book: the datasheet of a filter, a comparison, a calibration, a series of blind
listening."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from enum import StrEnum
from pathlib import Path

import numpy as np

from jiyuu import __version__
from jiyuu.bench.measured_beside import ABOUT_THE_RIG, Measured, beside, cells_of, measured
from jiyuu.bench.report.figures import Columns, inked_curves, pictures_of
from jiyuu.bench.report.printed import html_text, write_pdf
from jiyuu.bench.report.sheet import CAUTIONS, Part, Row, Sheet, said
from jiyuu.bench.side_by_side import COMPARED_HZ, SideBySide, side_by_side_steps
from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import setting_of, step_named, walk, why_out_of_date
from jiyuu.book.store import Book
from jiyuu.book.stored import Shelved, StoredRun
from jiyuu.character.comparison import weighed
from jiyuu.character.scales import SCALES
from jiyuu.errors import JiyuuError
from jiyuu.measurement.curve_reading import above_noise
from jiyuu.measurement.finding import Finding, Tolerance
from jiyuu.quantities import shown_hz
from jiyuu.whole_file import write_text, written_whole
from jiyuu.wording.findings import QUANTITIES
from jiyuu.wording.numbers import stated, three_digits

GLANCE = ("Quantity", "Measured", "Unit", "Tolerance")
GLANCE_WIDTHS = (3.2, 2.6, 1.2, 2.0)


class Kind(StrEnum):
    """What a report is about."""

    DATASHEET = "datasheet"
    COMPARISON = "comparison"
    CALIBRATION = "calibration"
    BLIND = "blind"


TITLES = {Kind.DATASHEET: "Datasheet", Kind.COMPARISON: "Comparison", Kind.CALIBRATION: "Calibration record",
          Kind.BLIND: "Blind listening"}


def shelved_of(book: Book, letter: str) -> Shelved:
    """Raises JiyuuError listing the letters there are."""
    shelf = book.filters()
    for one in shelf:
        if one.letter == letter:
            return one
    there = ", ".join(one.letter for one in shelf) or "none"
    raise JiyuuError(f"There is no filter '{letter}' on the shelf of {book.path.name}; there are: {there}.")


def printed_line(book: Book, on: date | None) -> str:
    """Where it is from; the day only where it is asked for, so that the same book gives the same bytes."""
    day = "" if on is None else f", printed on {on.day} {on:%B} {on.year}"
    return f"From {book.path.name}, version {__version__}{day}."


def day_of(run: StoredRun) -> str:
    """'5 March 2026', as the clock of the book has it."""
    at = datetime.fromisoformat(run.made_at)
    return f"{at.day} {at:%B} {at.year}"


# Datasheet


def datasheet(book: Book, letter: str, *, on: date | None = None) -> Sheet:
    """Drawing, figures, table with tolerances and stamps, conditions, warnings, cautions. Raises JiyuuError where
    nothing was measured."""
    shelved = shelved_of(book, letter)
    standing = Standing.of(shelved.document, book.settings().get(shelved.id, {}))
    known = {step.run_key for step in walk() if step.measures}
    runs = [run for run in book.newest_runs(shelved.id) if run.step in known]
    if not runs:
        raise JiyuuError(f"Nothing is measured of {letter} yet, so there is no datasheet to write; measure first.")
    findings = {run_id: [logged.finding for logged in found]
                for run_id, found in book.findings_of_runs([run.id for run in runs]).items()}
    parts = [_conditions(standing, runs), _glance(standing, runs, findings)]
    for step in walk():
        of_step = [run for run in runs if run.step == step.run_key]
        if not of_step:
            continue
        parts.append(Part(step.name, pictures=pictures_of(_kinds(book, of_step))))
        for run in of_step:
            stale = why_out_of_date(step, standing, step.setting.model_validate(run.setting), run)
            warnings = tuple(str(one["sentence"]) for one in run.facts.get("warnings", ()))
            lines = (f"{day_of(run)}, {run.source}, {run.title}.",
                     *([f"No longer as the filter stands: {stale}"] if stale else []))
            parts.append(Part(str(run.mode), lines, warnings, rows=tuple(said(one) for one in findings[run.id]),
                              under=True))
    notes = [shelved.document.notes] if shelved.document.notes else []
    lines = (f"{shelved.letter}. {shelved.document.entry.title}.", *notes, printed_line(book, on))
    return Sheet(f"{shelved.document.name}: datasheet", lines, tuple(parts))


def _conditions(standing: Standing, runs: Sequence[StoredRun]) -> Part:
    rows = [("Circuit", standing.document.entry.title), ("Output", standing.mode),
            ("Cutoff", shown_hz(standing.cutoff_hz)), ("Resonance", f"{standing.resonance_percent:.3g} %"),
            ("Measured", " to ".join(dict.fromkeys(day_of(run) for run in (
                min(runs, key=lambda one: one.made_at), max(runs, key=lambda one: one.made_at))))),
            ("On", ", ".join(dict.fromkeys(run.source for run in runs)))]
    warm = dict.fromkeys(run.facts["temperature_c"] for run in runs if "temperature_c" in run.facts)
    if warm:
        rows.append(("Temperature", " and ".join(f"{value:g} °C" for value in warm)))
    rows += [(name.replace("_", " ").capitalize(), f"{value:g}")
             for name, value in standing.document.parameters.items()]
    return Part("Circuit and conditions", diagram=standing.document.entry.diagram,
                rows=tuple(Row(row) for row in rows), widths=(1.0, 3.0))


def _glance(standing: Standing, runs: Sequence[StoredRun], findings: Mapping[int, Sequence[Finding]]) -> Part:
    """Numbers of the mode that stands, that need no more words."""
    rows = [Row((QUANTITIES[one.quantity].title, stated(one.value, one.uncertainty), one.unit, _limits(one.tolerance)),
                one.verdict)
            for run in runs if run.mode == standing.mode for one in findings[run.id]
            if one.context is None and one.quantity not in ABOUT_THE_RIG]
    return Part("At a glance", (f"{standing.mode}; ± is 95 %.",), head=GLANCE, rows=tuple(rows), widths=GLANCE_WIDTHS)


def _limits(tolerance: Tolerance | None) -> str:
    return "" if tolerance is None else f"{tolerance.low:g} … {tolerance.high:g}".replace("-", "−")


def _kinds(book: Book, runs: Sequence[StoredRun]) -> dict[str, dict[str, Columns]]:
    kinds: dict[str, dict[str, Columns]] = {}
    for run in runs:
        for name, table in book.tables(run.id).items():
            kinds.setdefault(name, {})[str(run.mode)] = table.columns
    return kinds


# Comparison


def comparison(book: Book, columns: Sequence[Measured], predicted: SideBySide | None = None, *, on: date | None = None
               ) -> Sheet:
    """What was measured of several, beside each other; predicted: their characters at one cutoff. Raises JiyuuError
    where nothing was measured of two."""
    if len(columns) < 2:
        raise JiyuuError("A comparison takes at least two; name another filter or another date.")
    names = [column.name for column in columns]
    lines = [f"{column.name}: {column.shelved.document.name}, {column.shelved.document.entry.title}; "
             f"{_when(column)}." for column in columns]
    table = beside(columns)
    parts = []
    curves = [(column.name, found["frequency_hz"], found["magnitude_db"]) for column in columns
              if (found := _response_of(book, column)) is not None]
    if curves:
        parts.append(Part("Responses, as measured", pictures=(inked_curves(curves, "Level re the input, dB"),)))
    if table:
        parts.append(Part(
            "Every quantity that was measured", ("Difference: the last less the first. Heard: by at least one "
                                                 "just-noticeable difference, where one is published.",),
            head=("Quantity", *names, "Difference", "What of it"), rows=tuple(Row(cells_of(line)) for line in table),
            widths=(2.4, *(2.1,) * len(names), 1.8, 1.9)))
    if predicted is not None:
        parts += _predicted(predicted)
    if not parts:
        raise JiyuuError("Nothing is measured of any of them, so there is nothing to compare; measure first.")
    return Sheet(f"Comparison: {', '.join(names)}", (*lines, printed_line(book, on)), tuple(parts))


def _when(column: Measured) -> str:
    runs = list(column.runs.values())
    if not runs:
        return "nothing measured yet"
    days = " and ".join(dict.fromkeys(day_of(run) for run in runs))
    return f"measured {days} ({runs[0].title.partition(': ')[2]})"


def _response_of(book: Book, column: Measured) -> Columns | None:
    run = column.runs.get("response")
    table = None if run is None else book.tables(run.id).get("response")
    if table is None:
        return None
    clear = above_noise(table["frequency_hz"], table["magnitude_db"], table["snr_db"])
    return {name: values[clear] for name, values in table.columns.items()}


def _predicted(found: SideBySide) -> list[Part]:
    known = [one for one in found.them if one.character is not None]
    curves = [(one.letter, COMPARED_HZ, np.maximum(one.level_db, -120.0)) for one in known if one.level_db is not None]
    rows = []
    for scale in SCALES:
        each = weighed(scale, [one.character[scale.name] for one in known if one.character is not None])
        values = ["–" if one.value is None else three_digits(one.value).replace("-", "−") for one in each.values]
        rows.append(Row((f"{scale.title}, {scale.unit}", *values, f"{scale.low} … {scale.high}", str(each.verdict))))
    names = tuple(one.letter for one in known)
    return [Part("Character, predicted at one cutoff", ("Each at the same loudness (ITU-R BS.1770).",),
                 pictures=(inked_curves(curves, "Predicted level, dB"),) if curves else (),
                 head=("Scale", *names, "from … to", "What of it"), rows=tuple(rows),
                 widths=(2.6, *(1.0,) * len(names), 2.4, 1.9))]


# Calibration


def calibration(book: Book, letter: str, *, on: date | None = None) -> Sheet:
    """The newest tracking run with its steps, trims and what was advised. Raises JiyuuError where there is none."""
    shelved = shelved_of(book, letter)
    runs = book.runs(shelved.id, "tracking")
    if not runs:
        raise JiyuuError(f"The tracking of {letter} is not measured, so there is no calibration to record; measure it "
                         "in the step Tracking.")
    run = runs[0]
    table = book.tables(run.id)["tracking"]
    trims = ", ".join(f"{name} {turns:+g} turns" for name, turns in run.standing.get("trims", {}).items() if turns)
    facts = [("Measured", f"{day_of(run)}, {run.source}"), ("Output", str(run.mode)),
             ("Temperature", f"{run.facts.get('temperature_c', 25.0):g} °C"),
             ("Trims as they stood", trims or "as delivered"), ("Noted", str(run.facts.get("note") or "–"))]
    steps = [Row((f"{volts:g}", f"{hertz:.3f}", f"{cents:+.2f}".replace("-", "−")))
             for volts, hertz, cents in zip(table["volts"], table["frequency_hz"], table["error_cents"], strict=True)]
    parts = (
        Part("Conditions", rows=tuple(Row(row) for row in facts), widths=(1.0, 3.0)),
        Part("What was found", warnings=tuple(str(one["sentence"]) for one in run.facts.get("warnings", ())),
             pictures=pictures_of(_kinds(book, [run])),
             rows=tuple(said(one.finding) for one in book.findings_of_run(run.id))),
        Part("Steps", head=("Control, V", "Pitch, Hz", "Out of tune, cents"), rows=tuple(steps),
             widths=(1.0, 1.0, 1.0)),
    )
    return Sheet(f"{shelved.document.name}: calibration record",
                 (f"{shelved.letter}. {shelved.document.entry.title}.", printed_line(book, on)), parts)


# Blind listening


def blind(book: Book, letter: str, *, on: date | None = None) -> Sheet:
    """Every series of a filter, what it shows and what it does not. Raises JiyuuError where there is none."""
    shelved = shelved_of(book, letter)
    runs = [run for run in book.runs(shelved.id, "comparison") if "blind" in run.facts]
    if not runs:
        raise JiyuuError(f"No series of blind listening is kept of {letter}; listen blind in the step Comparison.")
    parts = []
    for run in runs:
        series, asked = run.facts["blind"], run.setting
        trials = f"{len(series['answers'])} of {len(series['order'])} trials; order drawn before the first"
        rows = [("Asked", str(series["task"])), ("Filters", " and ".join(series["pair"])), ("Trials", trials),
                ("Played", f"{asked.get('source', 'saw')}, {asked.get('pitch_hz', 110.0):g} Hz, "
                           f"{asked.get('level_v', 5.0):g} V; loudness {asked.get('loudness', 'equal')}"),
                ("Order", " ".join(str(code) for code in series["order"])),
                ("Answers", " ".join(str(code) for code in series["answers"]))]
        parts.append(Part(day_of(run), rows=(*(said(one.finding) for one in book.findings_of_run(run.id)),)))
        parts.append(Part("How it was asked", rows=tuple(Row(row) for row in rows), widths=(1.0, 4.0), under=True))
    return Sheet(f"{shelved.document.name}: blind listening",
                 (f"{shelved.letter}. {shelved.document.entry.title}.", printed_line(book, on)), tuple(parts),
                 CAUTIONS[1:2])


def predicted_of(book: Book, letters: Sequence[str]) -> SideBySide | None:
    """Characters of some filters as they stand, at the cutoff of the first; seconds each. None where they cannot be
    brought together."""
    kept = book.settings()
    shelf = [(one.letter, one.document.name, Standing.of(one.document, kept.get(one.id, {})))
             for one in (shelved_of(book, letter) for letter in letters)]
    first = kept.get(shelved_of(book, letters[0]).id, {})
    *_, last = side_by_side_steps(shelf, letters[0], setting_of(step_named("comparison"), first))
    return last if sum(one.character is not None for one in last.them) > 1 else None


def sheet_of(book: Book, kind: Kind, letters: Sequence[str], *, on: date | None = None) -> Sheet:
    """Any kind; letters: one filter, or those compared. Raises JiyuuError saying what is missing."""
    if kind is Kind.COMPARISON:
        columns = [measured(book, shelved_of(book, letter)) for letter in letters]
        return comparison(book, columns, predicted_of(book, letters) if len(letters) > 1 else None, on=on)
    if len(letters) != 1:
        raise JiyuuError(f"A {TITLES[kind].lower()} is of one filter, and {len(letters)} were named; name one.")
    return {Kind.DATASHEET: datasheet, Kind.CALIBRATION: calibration, Kind.BLIND: blind}[kind](book, letters[0], on=on)


def write_report(sheet: Sheet, path: Path, *, inputs: tuple[Path, ...] = ()) -> None:
    """As HTML or PDF by the ending, whole or not at all. Raises JiyuuError for another ending."""
    if path.suffix.lower() in (".html", ".htm"):
        write_text(path, html_text(sheet), inputs=inputs)
    elif path.suffix.lower() == ".pdf":
        with written_whole(path, inputs=inputs) as temporary:
            write_pdf(sheet, temporary)
    else:
        raise JiyuuError(f"{path.name} is neither .html nor .pdf; give one of the two endings.")
