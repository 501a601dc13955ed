"""What was done on which day to which filter: a row a filter, a column a day, a mark for everything that is written
down."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from itertools import pairwise

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QToolTip

from jiyuu.bench.timeline import Entry, Kind, days
from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.theme.style import SMALL_PX, THEME
from jiyuu.measurement.finding import Verdict

LEFT_PX, HEAD_PX, FOOT_PX, SIDE_PX = 40.0, 44.0, 22.0, 10.0
DAY_PX, MARK_PX, MARK_APART_PX, REACH_PX, CLOSEST_PX = 96.0, 4.5, 13.0, 12.0, 3.0
CALLED = {Kind.RUN: "measured", Kind.FINDING: "finding kept", Kind.NOTE: "note", Kind.TRIM: "trim turned",
          Kind.SHELF: "put on the shelf, or off", Kind.ENCLOSED: "picture or recording"}
COUNTED = {Kind.RUN: ("run", "runs"), Kind.FINDING: ("finding kept", "findings kept"), Kind.NOTE: ("note", "notes"),
           Kind.TRIM: ("trim turned", "trims turned"), Kind.SHELF: ("move on the shelf", "moves on the shelf"),
           Kind.ENCLOSED: ("picture or recording", "pictures and recordings")}
BOOK = ""  # the row of what belongs to no filter


@dataclass(frozen=True, slots=True)
class _Placed:
    entry: Entry
    at: QPointF


class TimelineFigure(PaintedFigure):
    """Days that nothing happened on are left out; the newest stand at the right."""

    chosen = pyqtSignal(object)  # Entry
    day_chosen = pyqtSignal(object)  # date

    def __init__(self) -> None:
        super().__init__("What was done, by day and filter")
        self._entries: tuple[Entry, ...] = ()
        self._letters: tuple[str, ...] = ()
        self._days: list[date] = []
        self._current: Entry | None = None
        self._marks: list[_Placed] = []
        self._placed_for: tuple[int, ...] = ()
        self._back = 0  # days that lie to the right of what is shown
        self.setMinimumSize(420, 190)

    def show_entries(self, entries: Sequence[Entry], letters: Sequence[str]) -> None:
        """entries: newest first; letters: of the rows, the shelf's first."""
        self._entries = tuple(entries)
        used = {entry.letter for entry in entries}
        self._letters = (*letters, *sorted(used - {*letters, BOOK}), *([BOOK] if BOOK in used else []))
        self._days = days(entries)
        self._back = min(self._back, max(len(self._days) - 1, 0))
        if self._current not in self._entries:
            self._current = None
        self.describe()

    def show_current(self, entry: Entry | None) -> None:
        """The one that is looked at, its day brought into sight."""
        self._current = entry
        if entry is not None and entry.day in self._days:
            place, count = len(self._days) - 1 - self._days.index(entry.day), self._columns()
            self._back = min(max(self._back, place - count + 1), place)
        self.update()

    @property
    def current(self) -> Entry | None:
        return self._current

    def words(self) -> tuple[str, ...]:
        """A line a day."""
        counts = Counter((entry.day, entry.letter, entry.kind) for entry in self._entries)
        said: dict[date, list[str]] = {day: [] for day in reversed(self._days)}
        for (day, letter, kind), number in sorted(counts.items()):
            said[day].append(f"{letter or 'the book'}: {number} {COUNTED[kind][number > 1]}")
        return tuple(f"{day:%d %b %Y}: {', '.join(parts)}." for day, parts in said.items())

    def rows(self) -> list[tuple[object, ...]]:
        """Every entry."""
        found: list[tuple[object, ...]] = [("at", "filter", "what", "step", "text", "stamp")]
        found += [(entry.at.isoformat(timespec="seconds"), entry.letter, str(entry.kind), entry.step, entry.text,
                   "" if entry.verdict is Verdict.UNJUDGED else str(entry.verdict)) for entry in self._entries]
        return found if len(found) > 1 else []

    # Places

    def _columns(self) -> int:
        return max(int((self.width() - LEFT_PX - SIDE_PX) // DAY_PX), 1)

    def _shown_days(self) -> list[date]:
        stop = len(self._days) - self._back
        return self._days[max(stop - self._columns(), 0) : stop]

    def _row_height(self) -> float:
        return (self.height() - HEAD_PX - FOOT_PX) / max(len(self._letters), 1)

    def _placed(self) -> list[_Placed]:
        """Marks in sight: of one day and filter they stand in the order of time, closer where they are many; no more
        than can be told apart, the newest of them."""
        key = (self.width(), self.height(), self._back, id(self._entries))
        if key != self._placed_for:
            self._placed_for, self._marks = key, self._place()
        return self._marks

    def _place(self) -> list[_Placed]:
        shown, height = self._shown_days(), self._row_height()
        wide = (self.width() - LEFT_PX - SIDE_PX) / max(len(shown), 1)
        cells: dict[tuple[int, int], list[Entry]] = {}
        column_of, row_of = {day: i for i, day in enumerate(shown)}, {one: j for j, one in enumerate(self._letters)}
        for entry in reversed(self._entries):
            if entry.day in column_of:
                cells.setdefault((column_of[entry.day], row_of[entry.letter]), []).append(entry)
        found = []
        for (column, row), some in cells.items():
            most = max(int((wide - 16) / CLOSEST_PX), 1)
            apart = min(MARK_APART_PX, (wide - 16) / min(len(some), most))
            for k, entry in enumerate(some[-most:]):
                found.append(_Placed(entry, QPointF(LEFT_PX + column * wide + 12 + apart * (k + 0.5),
                                                    HEAD_PX + (row + 0.5) * height)))
        return found

    def nearest(self, point: QPointF) -> Entry | None:
        """The mark under a point."""
        near = sorted(((placed.at - point).manhattanLength(), -i) for i, placed in enumerate(self._placed()))
        if not near or near[0][0] > REACH_PX:
            return None
        return self._placed()[-near[0][1]].entry

    # Hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        if event.button() is not Qt.MouseButton.LeftButton:
            return
        if event.position().y() < HEAD_PX:
            shown = self._shown_days()
            wide = (self.width() - LEFT_PX - SIDE_PX) / max(len(shown), 1)
            column = int((event.position().x() - LEFT_PX) // wide)
            if 0 <= column < len(shown):
                self.day_chosen.emit(shown[column])
            return
        entry = self.nearest(event.position())
        if entry is not None:
            self.chosen.emit(entry)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        most = max(len(self._days) - self._columns(), 0)
        self._back = min(max(self._back + (1 if event.angleDelta().y() > 0 else -1), 0), most)
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right in time, up and down from filter to filter."""
        assert event is not None
        moves = {Qt.Key.Key_Left: (1, 0), Qt.Key.Key_Right: (-1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        move = moves.get(Qt.Key(event.key()))
        if move is None or not self._entries:
            super().keyPressEvent(event)
            return
        self.chosen.emit(self._beside(*move))

    def _beside(self, earlier: int, down: int) -> Entry:
        current = self._current or self._entries[0]
        if earlier:
            place = self._entries.index(current) if self._current is not None else -1
            return self._entries[min(max(place + earlier, 0), len(self._entries) - 1)]
        row = self._letters.index(current.letter)
        for other in self._letters[row + 1 :] if down > 0 else self._letters[:row][::-1]:
            there = [entry for entry in self._entries if entry.letter == other]
            if there:
                return min(there, key=lambda entry: abs((entry.at - current.at).total_seconds()))
        return current

    def event(self, event: object) -> bool:
        """What a mark is, under the pointer."""
        if isinstance(event, QHelpEvent):
            entry = self.nearest(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), "" if entry is None else f"{entry.at:%H:%M}  {entry.text}", self)
            return True
        return bool(super().event(event))  # type: ignore[arg-type]

    # Drawing

    def paint(self, painter: QPainter) -> None:
        self._paint_rules(painter)
        for placed in self._placed():
            self._paint_mark(painter, placed)
        self._paint_legend(painter)

    def _paint_rules(self, painter: QPainter) -> None:
        palette, shown, height = THEME.palette, self._shown_days(), self._row_height()
        for j, letter in enumerate(self._letters):
            y = HEAD_PX + (j + 0.5) * height
            painter.setPen(QPen(QColor(palette.rule), 1))
            painter.drawLine(QPointF(LEFT_PX, y), QPointF(self.width() - SIDE_PX, y))
            painter.setFont(THEME.font(px=SMALL_PX + 2, bold=True) if letter else THEME.font(px=SMALL_PX))
            painter.setPen(QColor(palette.ink_of(letter).colour if letter else palette.quiet))
            painter.drawText(QRectF(2, y - 10, LEFT_PX - 6, 20), Qt.AlignmentFlag.AlignCenter, letter or "book")
        wide = (self.width() - LEFT_PX - SIDE_PX) / max(len(shown), 1)
        painter.setFont(THEME.font(px=SMALL_PX))
        for i, day in enumerate(shown):
            x = LEFT_PX + i * wide
            painter.setPen(QPen(QColor(palette.strong_rule), 1))
            painter.drawLine(QPointF(x, HEAD_PX - 18), QPointF(x, self.height() - FOOT_PX))
            painter.setPen(QColor(palette.ink))
            first = i == 0 or shown[i - 1].year != day.year
            painter.drawText(QPointF(x + 6, HEAD_PX - 8), f"{day.day} {day:%b %Y}" if first else f"{day.day} {day:%b}")
        if self._back or len(self._days) > len(shown):
            painter.setPen(QColor(palette.quiet))
            earlier = len(self._days) - len(shown) - self._back
            said = [f"{count} days {which}" for count, which in ((earlier, "before"), (self._back, "after")) if count]
            painter.drawText(QRectF(0, 2, self.width() - SIDE_PX, 18), Qt.AlignmentFlag.AlignRight, ", ".join(said))

    def _paint_mark(self, painter: QPainter, placed: _Placed) -> None:
        palette, entry = THEME.palette, placed.entry
        ink = QColor(palette.ink_of(entry.letter).colour if entry.letter else palette.quiet)
        if entry == self._current:
            painter.setPen(QPen(QColor(palette.ink), 1.5))
            painter.setBrush(QColor(palette.chosen))
            painter.drawRect(QRectF(placed.at.x() - 10, placed.at.y() - 12, 20, 24))
        if entry.verdict is Verdict.OUTSIDE:
            painter.setPen(QPen(QColor(palette.attention), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(placed.at, MARK_PX + 2.5, MARK_PX + 2.5)
        paint_kind(painter, entry.kind, placed.at, ink)

    def _paint_legend(self, painter: QPainter) -> None:
        x, y = LEFT_PX, self.height() - 9.0
        painter.setFont(THEME.font(px=SMALL_PX))
        metrics = painter.fontMetrics()
        for kind, text in CALLED.items():
            if not any(entry.kind is kind for entry in self._entries):
                continue
            paint_kind(painter, kind, QPointF(x + 5, y - 4), QColor(THEME.palette.quiet))
            painter.setPen(QColor(THEME.palette.quiet))
            painter.drawText(QPointF(x + 15, y), text)
            x += 15 + metrics.horizontalAdvance(text) + 16
        if any(entry.verdict is Verdict.OUTSIDE for entry in self._entries):
            painter.setPen(QPen(QColor(THEME.palette.attention), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(x + 5, y - 4), MARK_PX + 1, MARK_PX + 1)
            painter.setPen(QColor(THEME.palette.quiet))
            painter.drawText(QPointF(x + 16, y), "out of tolerance")


def paint_kind(painter: QPainter, kind: Kind, at: QPointF, ink: QColor) -> None:
    """The mark of a kind: told by its shape, not by its colour."""
    r = MARK_PX
    painter.setPen(QPen(ink, 1.6))
    painter.setBrush(ink if kind in (Kind.RUN, Kind.FINDING) else Qt.BrushStyle.NoBrush)
    if kind is Kind.RUN:
        painter.drawEllipse(at, r, r)
    elif kind is Kind.FINDING:
        painter.drawPolygon(QPolygonF([at + QPointF(x, y) for x, y in ((0, -r - 2), (r, 0), (0, r + 2), (-r, 0))]))
    elif kind is Kind.NOTE:
        for dy in (-3.0, 0.0, 3.0):
            painter.drawLine(at + QPointF(-r, dy), at + QPointF(r if dy < 3 else 1, dy))
    elif kind is Kind.ENCLOSED:
        painter.drawRect(QRectF(at.x() - r, at.y() - r, 2 * r, 2 * r))
    elif kind is Kind.TRIM:
        corners = [at + QPointF(x, y) for x, y in ((-r, r), (0, -r), (r, r), (-r, r))]
        for one, other in pairwise(corners):
            painter.drawLine(one, other)
    else:
        painter.drawLine(at + QPointF(-r, 0), at + QPointF(r, 0))
        painter.drawLine(at + QPointF(0, -r), at + QPointF(0, r))
