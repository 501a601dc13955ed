"""A sheet as HTML in one file, or as PDF: the same words and figures, in the inks of the screen's paper."""

from __future__ import annotations

import io
from importlib.resources import files
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING

from jiyuu.bench.report.sheet import Part, Picture, Row, Sheet
from jiyuu.circuits.diagram import Diagram, diagram_svg, drawing_of
from jiyuu.inks import PAPER
from jiyuu.measurement.finding import Verdict

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure

WIDE, TALL = 8.27, 11.69  # inches: A4
MARGIN = 0.8
LINE, SMALL, HEADING, TITLE = 0.165, 8.5, 11.5, 15.0  # inches a line; points of type
PICTURE_IN = 6.67, 0.12  # width of a figure and what is left over it
ROOM_IN, EDGE_IN = (0.62, 0.5), 0.1  # left of a figure and under it, for numbers and names; right of it on a screen
CHARACTERS, IN_CELLS = 112, 104  # of the small type, over the width of a page; where they are mostly figures
STAMP_IN = 1.1


def html_text(sheet: Sheet) -> str:
    """One file with its figures inside; the same sheet, the same bytes."""
    from jinja2 import Environment

    template = Environment(autoescape=True).from_string(
        files("jiyuu.bench.report").joinpath("page.html.j2").read_text(encoding="utf-8"))
    return template.render(sheet=sheet, ink=PAPER, unjudged=Verdict.UNJUDGED, outside=Verdict.OUTSIDE,
                           svg=_svg, diagram=lambda one: diagram_svg(one, ink=PAPER.ink, quiet=PAPER.quiet))


def write_pdf(sheet: Sheet, path: Path) -> None:
    """The same on pages; the same sheet, the same bytes."""
    from matplotlib.backends.backend_pdf import PdfPages

    with PdfPages(path, metadata={"CreationDate": None, "Title": sheet.title}) as pages:
        printer = _Printer(pages, sheet.title)
        printer.words(sheet.title, TITLE, bold=True)
        for line in sheet.lines:
            printer.words(line)
        for part in sheet.parts:
            printer.part(part)
        printer.space(0.5)
        for line in sheet.cautions:
            printer.words(line, colour=PAPER.quiet)
        printer.close()


def _set(picture: Picture, figure: Figure, x: float, top: float) -> None:
    """Into a figure of paper, x and top inches from its lower left corner. Room for numbers and names of the axes is
    always the same: found anew from what is drawn it would take as long as drawing."""
    wide, tall = figure.get_size_inches()
    left, low = ROOM_IN
    _draw(picture, figure.add_axes((
        (x + left) / wide, (top - picture.height + low) / tall,
        (PICTURE_IN[0] - left) / wide, (picture.height - low - PICTURE_IN[1]) / tall), facecolor=PAPER.raised))


def _draw(picture: Picture, axes: Axes) -> None:
    axes.grid(which="both", color=PAPER.rule, lw=0.5)
    axes.tick_params(labelsize=7.5, colors=PAPER.quiet)
    for spine in axes.spines.values():
        spine.set_color(PAPER.strong_rule)
    picture.draw(axes)
    axes.xaxis.label.set_fontsize(8)
    axes.yaxis.label.set_fontsize(8)


def _svg(picture: Picture) -> str:
    import matplotlib
    from matplotlib.figure import Figure

    made = io.StringIO()
    with matplotlib.rc_context({"svg.hashsalt": "jiyuu", "font.size": 8}):
        figure = Figure(figsize=(PICTURE_IN[0] + EDGE_IN, picture.height), facecolor=PAPER.raised)
        _set(picture, figure, 0.0, picture.height)
        figure.savefig(made, format="svg", metadata={"Date": None})
    text = made.getvalue()
    return text[text.index("<svg") :]


class _Printer:
    """Down a page, and on to the next where there is no room."""

    def __init__(self, pages: PdfPages, title: str) -> None:
        self._pages, self._title, self._number = pages, title, 0
        self._page: Figure | None = None
        self._y = 0.0
        self._turn()

    def _turn(self) -> None:
        from matplotlib.figure import Figure

        self.close()
        self._number += 1
        self._page = Figure(figsize=(WIDE, TALL), facecolor="white")
        self._y = TALL - MARGIN
        self._put(WIDE - MARGIN, 0.45, f"{self._title}, page {self._number}", SMALL - 1, PAPER.quiet, right=True)

    def close(self) -> None:
        """What stands on the page goes out."""
        if self._page is not None:
            self._pages.savefig(self._page)  # type: ignore[no-untyped-call]
            self._page = None

    def _put(self, x: float, y: float, text: str, size: float, colour: str, *, bold: bool = False, right: bool = False
             ) -> None:
        assert self._page is not None
        self._page.text(x / WIDE, y / TALL, text, fontsize=size, color=colour, va="top",
                        ha="right" if right else "left", fontweight="bold" if bold else "normal")

    def room(self, inches: float) -> None:
        """A new page where there is not so much left."""
        if self._y - inches < MARGIN:
            self._turn()

    def space(self, lines: float) -> None:
        self._y -= lines * LINE

    def words(self, text: str, size: float = SMALL, *, bold: bool = False, colour: str = PAPER.ink) -> None:
        """A paragraph."""
        high = LINE * size / SMALL
        for line in wrap(text, int(CHARACTERS * SMALL / size)) or [""]:
            self.room(high)
            self._put(MARGIN, self._y, line, size, colour, bold=bold)
            self._y -= high

    def part(self, part: Part) -> None:
        """Its heading stays with what follows."""
        pictures = [picture.height for picture in part.pictures[:1]]
        self.space(0.5 if part.under else 1.0)
        self.room(LINE * 4 + (pictures[0] if pictures else 0))
        self.words(part.title, SMALL + 1 if part.under else HEADING, bold=True)
        for line in part.lines:
            self.words(line)
        for line in part.warnings:
            self.words(line, colour=PAPER.attention)
        if part.diagram is not None:
            self._diagram(part.diagram)
        for picture in part.pictures:
            self._picture(picture)
        self._table(part)

    def _picture(self, picture: Picture) -> None:
        import matplotlib

        self.room(picture.height)
        assert self._page is not None
        with matplotlib.rc_context({"font.size": 8}):
            _set(picture, self._page, MARGIN, self._y)
        self._y -= picture.height

    def _diagram(self, diagram: Diagram) -> None:
        made = drawing_of(diagram)
        scale = min(1 / 96, PICTURE_IN[0] / made.width)  # of inches a unit
        self.room(made.height * scale)
        assert self._page is not None
        axes = self._page.add_axes((MARGIN / WIDE, (self._y - made.height * scale) / TALL,
                                    made.width * scale / WIDE, made.height * scale / TALL))
        axes.set_axis_off()
        axes.set_xlim(0, made.width)
        axes.set_ylim(made.height, 0)
        _draw_diagram(axes, diagram, 11 * 72 * scale)
        self._y -= made.height * scale

    def _table(self, part: Part) -> None:
        if not part.rows:
            return
        stamped = any(row.verdict is not Verdict.UNJUDGED for row in part.rows)
        wide = WIDE - 2 * MARGIN - (STAMP_IN if stamped else 0.0)
        if part.head:
            self._row(part, Row(part.head), wide, bold=True)
        for row in part.rows:
            self._row(part, row, wide)

    def _row(self, part: Part, row: Row, wide: float, *, bold: bool = False) -> None:
        total, x = sum(part.widths), MARGIN
        cells = []
        for cell, share in zip(row.cells, part.widths, strict=True):
            columns = wide * share / total
            room = max(int(IN_CELLS * columns / (WIDE - 2 * MARGIN)), 4)
            cells.append((x, wrap(cell, room) or [""]))
            x += columns
        lines = max(len(text) for _, text in cells)
        self.room(lines * LINE)
        outside = row.verdict is Verdict.OUTSIDE
        for place, text in cells:
            for i, line in enumerate(text):
                self._put(place, self._y - i * LINE, line, SMALL, PAPER.ink, bold=bold)
        if row.verdict is not Verdict.UNJUDGED:
            self._put(WIDE - MARGIN, self._y, row.verdict.value, SMALL, PAPER.attention if outside else PAPER.quiet,
                      right=True)
        self._y -= lines * LINE


def _draw_diagram(axes: Axes, diagram: Diagram, points: float) -> None:
    from matplotlib.patches import Circle, Polygon, Rectangle

    made = drawing_of(diagram)
    for line, strong in made.lines:
        axes.plot(*zip(*line, strict=True), color=PAPER.ink if strong else PAPER.quiet, lw=1.0 if strong else 0.7)
    for corners in made.heads:
        axes.add_patch(Polygon(corners, facecolor=PAPER.ink, lw=0))
    for x, y, width, height in made.boxes:
        axes.add_patch(Rectangle((x, y), width, height, fill=False, edgecolor=PAPER.ink, lw=1.0))
    for x, y, radius in made.circles:
        axes.add_patch(Circle((x, y), radius, fill=False, edgecolor=PAPER.ink, lw=1.0))
    for x, y, words, strong in made.words:
        axes.text(x, y, words, fontsize=points, ha="center", va="baseline",
                  color=PAPER.ink if strong else PAPER.quiet)
