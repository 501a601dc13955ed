"""Tables and lists where there is little room, and where there is more than enough."""

from datetime import datetime

from PyQt6.QtCore import Qt

from jiyuu.bench.timeline import Entry, Kind
from jiyuu.desktop.parts.notes_list import NotesList
from jiyuu.desktop.parts.plain_table import PlainTable
from jiyuu.desktop.steps.logbook.entries_model import STAMP, WHAT, EntriesTable
from jiyuu.measurement.finding import Verdict


def entry(verdict):
    return Entry(Kind.RUN, datetime(2026, 3, 2, 18, 36), "A", "response", "lowpass-24, 820.0 Hz", verdict, 1)


def test_a_stamp_that_has_no_column_is_a_sign(qtbot):
    table = EntriesTable()
    qtbot.addWidget(table)
    table.entries_model.show_entries([entry(Verdict.OUTSIDE), entry(Verdict.INSIDE)])
    table.show()

    def shown():
        model = table.entries_model
        return [model.data(model.index(row, WHAT), Qt.ItemDataRole.DisplayRole) for row in range(2)]

    table.resize(1000, 200)
    assert not table.isColumnHidden(STAMP)
    assert shown() == ["lowpass-24, 820.0 Hz"] * 2
    table.resize(380, 200)
    assert table.isColumnHidden(STAMP)
    assert shown() == ["✗ lowpass-24, 820.0 Hz", "lowpass-24, 820.0 Hz"]
    shown_px = sum(table.columnWidth(column) for column in range(STAMP))
    assert shown_px <= table.viewport().width()  # nothing stands where it cannot be scrolled to


def test_a_list_with_nothing_to_scroll_has_no_handle(qtbot):
    notes = NotesList("Notes")
    qtbot.addWidget(notes)
    notes.resize(200, 120)
    notes.show()
    notes.say(["one"])
    qtbot.waitUntil(lambda: not notes.verticalScrollBar().isEnabled())
    notes.say([f"sentence {i}" for i in range(40)])
    qtbot.waitUntil(notes.verticalScrollBar().isEnabled)


def test_a_last_column_of_numbers_stands_beside_the_others(qtbot):
    numbers, words = PlainTable("N", ("volts", "hertz")), PlainTable("W", ("volts", "what"), words=(1,))
    for table in (numbers, words):
        qtbot.addWidget(table)
        table.resize(600, 100)
        table.fill([("1.000", "52.79")])
        table.show()
    assert numbers.columnWidth(1) < 150 < words.columnWidth(1)


def test_what_is_filled_in_is_looked_through_once(qtbot):
    class Counted(PlainTable):
        looked = 0

        def sizeHintForRow(self, row):
            self.looked += 1
            return super().sizeHintForRow(row)

    table = Counted("N", ("volts", "hertz", "cents"))
    qtbot.addWidget(table)
    table.show()
    for text in ("52.79", "1052.79"):  # the second time there are rows already
        table.looked = 0
        table.fill([("1.000", text, "0.3")] * 40)
        assert table.looked <= 3 * table.rowCount()
        qtbot.wait(1)  # it is laid out
        assert table.columnWidth(1) >= table.fontMetrics().horizontalAdvance(text)
