"""A circuit as a block diagram: a chain of stages, paths that lead back, taps where the modes come out; as SVG."""

from __future__ import annotations

from dataclasses import dataclass
from xml.sax.saxutils import escape

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


def diagram_svg(diagram: Diagram, *, ink: str, quiet: str, face: str = "sans-serif") -> str:
    """SVG text; `ink` draws the signal path, `quiet` the taps, in the face given."""
    places = [34.0 + i * _PITCH for i in range(len(diagram.chain))]
    levels = max([*(1 + i for i, _ in enumerate(diagram.back)), 0])
    top = 40
    width, height = places[-1] + 58, top + 36 + 26 * levels
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
        f'font-family="{face}" font-size="11">'
    ]

    def line(*points: tuple[float, float]) -> None:
        path = " ".join(f"{x:g},{y:g}" for x, y in points)
        out.append(f'<polyline points="{path}" fill="none" stroke="{ink}" stroke-width="1.3"/>')

    def head(x: float, y: float, dx: float, dy: float) -> None:
        a, b = (x - 6 * dx - 3 * dy, y - 6 * dy - 3 * dx), (x - 6 * dx + 3 * dy, y - 6 * dy + 3 * dx)
        out.append(f'<polygon points="{x:g},{y:g} {a[0]:g},{a[1]:g} {b[0]:g},{b[1]:g}" fill="{ink}"/>')

    def text(x: float, y: float, words: str, colour: str, anchor: str = "middle") -> None:
        out.append(f'<text x="{x:g}" y="{y:g}" text-anchor="{anchor}" fill="{colour}">{escape(words)}</text>')

    halves: list[float] = [11.0 if name == SUM else _WIDE / 2 for name in diagram.chain]
    line((4, top), (places[0] - halves[0], top))
    head(places[0] - halves[0], top, 1, 0)
    for i, (x, name) in enumerate(zip(places, diagram.chain, strict=True)):
        if name == SUM:
            out.append(f'<circle cx="{x}" cy="{top}" r="11" fill="none" stroke="{ink}" stroke-width="1.3"/>')
        else:
            out.append(
                f'<rect x="{x - _WIDE / 2}" y="{top - _HEIGHT / 2}" width="{_WIDE}" height="{_HEIGHT}" fill="none" '
                f'stroke="{ink}" stroke-width="1.3"/>'
            )
        text(x, top + 4, name, ink)
        begin = x + halves[i]
        end = places[i + 1] - halves[i + 1] if i + 1 < len(places) else x + halves[i] + 26
        line((begin, top), (end, top))
        head(end, top, 1, 0)
        if diagram.both_ways and 0 < i < len(places) - 1:
            head(begin, top, -1, 0)
    for place, label in diagram.taps:
        x = places[place] + halves[place] + 8
        out.append(f'<polyline points="{x:g},{top} {x:g},{top - 22}" stroke="{quiet}" stroke-width="1" fill="none"/>')
        text(x, top - 26, label, quiet)
    for level, back in enumerate(diagram.back):
        start = places[back.start] + halves[back.start] + 14
        y = top + 36 + 26 * level
        stop = places[back.end] + (0 if diagram.chain[back.end] == SUM else -4) + 5 * level
        into = top + (11 if diagram.chain[back.end] == SUM else _HEIGHT / 2)
        middle, box = (start + stop) / 2, 6 * len(back.label) + 12
        line((start, top), (start, y), (middle + box / 2, y))
        line((middle - box / 2, y), (stop, y), (stop, into))
        head(stop, into, 0, -1)
        out.append(f'<rect x="{middle - box / 2:g}" y="{y - 9}" width="{box}" height="18" fill="none" stroke="{ink}"/>')
        text(middle, y + 4, back.label, ink)
    out.append("</svg>")
    return "\n".join(out)
