"""Reports: the findings with their figure, as HTML and PDF."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from importlib.resources import files
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from jinja2 import Environment

from jiyuu.circuits.filter_file import Filter
from jiyuu.quantities import shown_hz

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_INK, _RULE, _GROUND = "#1B2733", "#D8D2C2", "#FFFDF7"
_DASHES = ("solid", (0, (5, 2)), (0, (1, 1.5)), (0, (6, 2, 1, 2)), (0, (9, 3)), (0, (6, 2, 1, 2, 1, 2)))


OTHER_STEPS = {"setup": "Setup", "resonance": "Resonance", "self_oscillation": "Self-oscillation",
               "tracking": "Tracking"}


def html_report(
    document: Filter, summary: Mapping[str, Any], curves: Mapping[str, Path], tracking: Path | None = None
) -> str:
    """The report as one HTML page with its figures inside. tracking: the table of the Tracking step, as CSV."""
    template = Environment(autoescape=True).from_string(
        files("jiyuu.book").joinpath("report.html.j2").read_text(encoding="utf-8")
    )
    return template.render(
        document=document, circuit=document.entry, summary=summary, cutoff=shown_hz(summary["cutoff_hz"]),
        figure=_svg(_figure(curves)), others=_others(summary),
        tracking="" if tracking is None else _svg(_tracking_figure(tracking)),
    )


def _others(summary: Mapping[str, Any]) -> list[tuple[str, Mapping[str, Any]]]:
    """Steps besides the response that were done, with their titles."""
    return [(title, summary["steps"][name]) for name, title in OTHER_STEPS.items() if name in summary["steps"]]


def _svg(figure: Figure) -> str:
    picture = io.StringIO()
    figure.savefig(picture, format="svg")
    text = picture.getvalue()
    return text[text.index("<svg") :]


def pdf_report(
    document: Filter, summary: Mapping[str, Any], curves: Mapping[str, Path], path: Path, tracking: Path | None = None
) -> None:
    """The same as PDF: the figures, then the sentences mode by mode and step by step."""
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure

    lines: list[str] = []
    for mode, found in summary["steps"]["response"]["modes"].items():
        lines += ["", mode, *(f"    {finding['sentence']}" for finding in found["findings"])]
    for title, found in _others(summary):
        why = [f"    {found['why']}"] if found.get("why") else []
        lines += ["", title, *why, *(f"    {finding['sentence']}" for finding in found["findings"])]
    lines = [part for line in lines for part in (wrap(line, 105, subsequent_indent="        ") or [""])]
    with PdfPages(path) as pages:
        first = _figure(curves)
        first.suptitle(f"{document.name}: {document.entry.title}", color=_INK)
        pages.savefig(first)
        if tracking is not None:
            pages.savefig(_tracking_figure(tracking))
        per_page = 46
        for start in range(0, len(lines), per_page):
            page = Figure(figsize=(8.3, 11.7))
            page.text(0.08, 0.95, "\n".join(lines[start : start + per_page]), va="top", fontsize=9, color=_INK)
            pages.savefig(page)


def _figure(curves: Mapping[str, Path]) -> Figure:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(8.3, 4.4), facecolor=_GROUND, layout="constrained")
    axes = figure.add_subplot(facecolor=_GROUND)
    for i, (mode, path) in enumerate(curves.items()):
        with path.open(encoding="utf-8", newline="") as file:
            rows = [
                (float(row["frequency_hz"]), float(row["magnitude_db"]))
                for row in csv.DictReader(file)
                if float(row["snr_db"]) > 6
            ]
        if rows:
            axes.semilogx(*zip(*rows, strict=True), color=_INK, lw=1.2, ls=_DASHES[i % len(_DASHES)], label=mode,
                          alpha=1 - 0.05 * i)
    axes.set_xlabel("Frequency, Hz")
    axes.set_ylabel("Level re the input, dB")
    axes.set_ylim(bottom=-100)
    axes.grid(which="both", color=_RULE, lw=0.5)
    axes.legend(fontsize=7, ncols=3, frameon=False)
    return figure


def _tracking_figure(table: Path) -> Figure:
    from matplotlib.figure import Figure

    with table.open(encoding="utf-8", newline="") as file:
        rows = [(float(row["volts"]), float(row["error_cents"])) for row in csv.DictReader(file)]
    figure = Figure(figsize=(8.3, 3.4), facecolor=_GROUND, layout="constrained")
    axes = figure.add_subplot(facecolor=_GROUND)
    for cents in (20, 5, 2):
        axes.axhspan(-cents, cents, color=_INK, alpha=0.06, lw=0)
    axes.plot(*zip(*rows, strict=True), color=_INK, lw=1.6, marker="o", ms=5)
    axes.set_xlabel("Control voltage, V")
    axes.set_ylabel("Out of tune, cents")
    axes.grid(color=_RULE, lw=0.5)
    return figure
