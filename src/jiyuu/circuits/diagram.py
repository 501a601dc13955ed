"""A circuit as a block diagram: a chain of stages, paths that lead back, taps where the modes come out; as shapes, and
as SVG."""

from __future__ import annotations

from dataclasses import dataclass, field
from html import escape

SUM = "Σ"
_PITCH, _HEIGHT, _WIDE = 70, 26, 44


@dataclass(frozen=True, slots=True)
class Back:
    """A path from behind stage `start` (place in the chain) back into stage `end`."""

    start: int
    end: int
    label: str


@dataclass(frozen=True, slots=True)
class Diagram:
    """chain: SUM or what a block says; taps: (place, label), taken behind that stage; both_ways: stages that load
    their neighbours, drawn with arrows in both directions."""

    chain: tuple[str, ...]
    back: tuple[Back, ...] = ()
    taps: tuple[tuple[int, str], ...] = ()
    both_ways: bool = False


@dataclass(slots=True)
class Drawing:
    """Shapes on a sheet of width and height, y downwards; strong ones are the signal path, the others quiet.

    lines: (points, strong); heads: three corners each; boxes: (x, y, width, height); circles: (x, y, radius); words:
    (x, baseline, text, strong), about x."""

    width: float
    height: float
    lines: list[tuple[tuple[tuple[float, float], ...], bool]] = field(default_factory=list)
    heads: list[tuple[tuple[float, float], ...]] = field(default_factory=list)
    boxes: list[tuple[float, float, float, float]] = field(default_factory=list)
    circles: list[tuple[float, float, float]] = field(default_factory=list)
    words: list[tuple[float, float, str, bool]] = field(default_factory=list)

    def line(self, *points: tuple[float, float], strong: bool = True) -> None:
        self.lines.append((points, strong))

    def head(self, x: float, y: float, dx: float, dy: float) -> None:
        """Of an arrow that points along (dx, dy)."""
        self.heads.append(((x, y), (x - 6 * dx - 3 * dy, y - 6 * dy - 3 * dx),
                           (x - 6 * dx + 3 * dy, y - 6 * dy + 3 * dx)))


def drawing_of(diagram: Diagram) -> Drawing:
    """Where everything stands."""
    places = [34.0 + i * _PITCH for i in range(len(diagram.chain))]
    top = 40.0
    made = Drawing(places[-1] + 58, top + 36 + 26 * len(diagram.back))
    halves: list[float] = [11.0 if name == SUM else _WIDE / 2 for name in diagram.chain]
    made.line((4, top), (places[0] - halves[0], top))
    made.head(places[0] - halves[0], top, 1, 0)
    for i, (x, name) in enumerate(zip(places, diagram.chain, strict=True)):
        if name == SUM:
            made.circles.append((x, top, 11))
        else:
            made.boxes.append((x - _WIDE / 2, top - _HEIGHT / 2, _WIDE, _HEIGHT))
        made.words.append((x, top + 4, name, True))
        begin = x + halves[i]
        end = places[i + 1] - halves[i + 1] if i + 1 < len(places) else x + halves[i] + 26
        made.line((begin, top), (end, top))
        made.head(end, top, 1, 0)
        if diagram.both_ways and 0 < i < len(places) - 1:
            made.head(begin, top, -1, 0)
    for place, label in diagram.taps:
        x = places[place] + halves[place] + 8
        made.line((x, top), (x, top - 22), strong=False)
        made.words.append((x, top - 26, label, False))
    for level, back in enumerate(diagram.back):
        start = places[back.start] + halves[back.start] + 14
        y = top + 36 + 26 * level
        stop = places[back.end] + (0 if diagram.chain[back.end] == SUM else -4) + 5 * level
        into = top + (11 if diagram.chain[back.end] == SUM else _HEIGHT / 2)
        middle, box = (start + stop) / 2, 6 * len(back.label) + 12
        made.line((start, top), (start, y), (middle + box / 2, y))
        made.line((middle - box / 2, y), (stop, y), (stop, into))
        made.head(stop, into, 0, -1)
        made.boxes.append((middle - box / 2, y - 9, box, 18))
        made.words.append((middle, y + 4, back.label, True))
    return made


def diagram_svg(diagram: Diagram, *, ink: str, quiet: str, face: str = "sans-serif") -> str:
    """SVG text; `ink` draws the signal path, `quiet` the taps, in the face given."""
    made = drawing_of(diagram)
    out = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {made.width:g} {made.height:g}" '
           f'width="{made.width:g}" height="{made.height:g}" font-family="{face}" font-size="11">']
    for points, strong in made.lines:
        path = " ".join(f"{x:g},{y:g}" for x, y in points)
        out.append(f'<polyline points="{path}" fill="none" stroke="{ink if strong else quiet}" '
                   f'stroke-width="{1.3 if strong else 1}"/>')
    for corners in made.heads:
        out.append(f'<polygon points="{" ".join(f"{x:g},{y:g}" for x, y in corners)}" fill="{ink}"/>')
    for x, y, width, height in made.boxes:
        out.append(f'<rect x="{x:g}" y="{y:g}" width="{width:g}" height="{height:g}" fill="none" stroke="{ink}" '
                   'stroke-width="1.3"/>')
    for x, y, radius in made.circles:
        out.append(f'<circle cx="{x:g}" cy="{y:g}" r="{radius:g}" fill="none" stroke="{ink}" stroke-width="1.3"/>')
    for x, y, words, strong in made.words:
        out.append(f'<text x="{x:g}" y="{y:g}" text-anchor="middle" fill="{ink if strong else quiet}">'
                   f'{escape(words, quote=False)}</text>')
    out.append("</svg>")
    return "\n".join(out)
