"""Reports: the findings of every step with their figures, as HTML and PDF."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Mapping
from importlib.resources import files
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from jinja2 import Environment

from jiyuu.bench.standing import Standing
from jiyuu.bench.walk import walk
from jiyuu.inks import PAPER
from jiyuu.quantities import shown_hz

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DASHES = ("solid", (0, (5, 2)), (0, (1, 1.5)), (0, (6, 2, 1, 2)), (0, (9, 3)), (0, (6, 2, 1, 2, 1, 2)))
LINES_A_PAGE, CHARACTERS_A_LINE = 46, 105


def html_report(standing: Standing, summary: Mapping[str, Any], tables: Mapping[str, Path]) -> str:
    """One page with its figures inside. tables: CSV files by name."""
    template = Environment(autoescape=True).from_string(
        files("jiyuu.bench").joinpath("report.html.j2").read_text(encoding="utf-8")
    )
    return template.render(
        document=standing.document, circuit=standing.document.entry, summary=summary, ink=PAPER,
        cutoff=shown_hz(standing.cutoff_hz),
        steps=[(title, found, [_svg(figure) for figure in _figures(found, tables)]) for title, found in _done(summary)],
    )


def pdf_report(standing: Standing, summary: Mapping[str, Any], tables: Mapping[str, Path], path: Path) -> None:
    """The same as PDF: the figures, then the sentences step by step and mode by mode."""
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure

    lines: list[str] = []
    with PdfPages(path, metadata={"CreationDate": None}) as pages:  # the same book, the same bytes
        for title, found in _done(summary):
            lines += ["", title, *([f"    {found['why']}"] if found.get("why") else [])]
            for mode, run in found.get("modes", {}).items():
                lines += [f"  {mode}", *(f"    {warning['sentence']}" for warning in run.get("warnings", ())),
                          *(f"    {finding['sentence']}" for finding in run["findings"])]
            for figure in _figures(found, tables):
                figure.suptitle(f"{standing.document.name}: {title}", color=PAPER.ink)
                pages.savefig(figure)
        lines = [part for line in lines
                 for part in (wrap(line, CHARACTERS_A_LINE, subsequent_indent="        ") or [""])]
        for start in range(0, len(lines), LINES_A_PAGE):
            page = Figure(figsize=(8.3, 11.7))
            page.text(0.08, 0.95, "\n".join(lines[start : start + LINES_A_PAGE]), va="top", fontsize=9,
                      color=PAPER.ink)
            pages.savefig(page)


def _done(summary: Mapping[str, Any]) -> list[tuple[str, Mapping[str, Any]]]:
    """Title and findings of every step that was done, in the order of the walk."""
    return [(step.name, summary["steps"][step.key]) for step in walk() if step.key in summary["steps"]]


def _svg(figure: Figure) -> str:
    import matplotlib

    picture = io.StringIO()
    with matplotlib.rc_context({"svg.hashsalt": "jiyuu"}):
        figure.savefig(picture, format="svg", metadata={"Date": None})
    text = picture.getvalue()
    return text[text.index("<svg") :]


def _figures(found: Mapping[str, Any], tables: Mapping[str, Path]) -> list[Figure]:
    """A figure for each kind of table: its columns over the first; tables of one name in several modes share one."""
    kinds: dict[str, dict[str, Path]] = {}
    for mode, run in found.get("modes", {}).items():
        for name in run.get("tables", ()):
            kinds.setdefault(name.removesuffix(".csv").removesuffix(f"-{mode}"), {})[mode] = tables[name]
    made = {"response": _response_figure, "resonance": _resonance_figure, "pull": _pull_figure,
            "tracking": _tracking_figure, "drive": _drive_figure}
    return [made[kind](paths) for kind, paths in kinds.items() if kind in made]


def _columns(path: Path) -> dict[str, list[float]]:
    with path.open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    names = rows[0].keys() if rows else ()
    return {name: [float(row[name]) if row[name] else float("nan") for row in rows] for name in names}


def _axes(over: str, what: str, height: float = 3.4) -> tuple[Figure, Axes]:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(8.3, height), facecolor=PAPER.raised, layout="constrained")
    axes = figure.add_subplot(facecolor=PAPER.raised)
    axes.set_xlabel(over)
    axes.set_ylabel(what)
    axes.grid(which="both", color=PAPER.rule, lw=0.5)
    return figure, axes


def _response_figure(paths: Mapping[str, Path]) -> Figure:
    figure, axes = _axes("Frequency, Hz", "Level re the input, dB", 4.4)
    for i, (mode, path) in enumerate(paths.items()):
        table = _columns(path)
        clear = [(hz, level) for hz, level, snr in zip(table["frequency_hz"], table["magnitude_db"], table["snr_db"],
                                                       strict=True) if snr > 6]
        if clear:
            axes.semilogx(*zip(*clear, strict=True), color=PAPER.ink, lw=1.2, ls=DASHES[i % len(DASHES)], label=mode,
                          alpha=1 - 0.05 * i)
    axes.set_ylim(bottom=-100)
    axes.legend(fontsize=7, ncols=3, frameon=False)
    return figure


def _resonance_figure(paths: Mapping[str, Path]) -> Figure:
    figure, axes = _axes("Resonance control, %", "dB")
    table = _columns(next(iter(paths.values())))
    for name, dash, title in (("peak_db", "solid", "peak re the passband"), ("body_db", DASHES[1], "body")):
        axes.plot(table["position_percent"], table[name], color=PAPER.ink, lw=1.6, ls=dash, marker="o", ms=3,
                  label=title)
    axes.legend(fontsize=7, frameon=False)
    return figure


def _pull_figure(paths: Mapping[str, Path]) -> Figure:
    figure, axes = _axes("Resonance control, %", "Pitch of the whistle, cents")
    table = _columns(next(iter(paths.values())))
    axes.plot(table["position_percent"], table["cents"], color=PAPER.ink, lw=1.6, marker="o", ms=4)
    return figure


def _drive_figure(paths: Mapping[str, Path]) -> Figure:
    figure, axes = _axes("Input, V peak", "Gain in dB; THD in dB re the first harmonic")
    table = _columns(next(iter(paths.values())))
    known = [(volts, 20 * math.log10(percent / 100)) for volts, percent, doubt in zip(
        table["input_peak_v"], table["thd_percent"], table["thd_uncertainty_percent"], strict=True) if percent > doubt]
    axes.semilogx(table["input_peak_v"], table["gain_db"], color=PAPER.ink, lw=1.6, label="gain")
    if known:
        axes.semilogx(*zip(*known, strict=True), color=PAPER.ink, lw=1.6, ls=DASHES[1], label="THD")
    axes.legend(fontsize=7, frameon=False)
    return figure


def _tracking_figure(paths: Mapping[str, Path]) -> Figure:
    figure, axes = _axes("Control voltage, V", "Out of tune, cents")
    table = _columns(next(iter(paths.values())))
    for cents in (20, 5, 2):
        axes.axhspan(-cents, cents, color=PAPER.ink, alpha=0.06, lw=0)
    axes.plot(table["volts"], table["error_cents"], color=PAPER.ink, lw=1.6, marker="o", ms=5)
    return figure
