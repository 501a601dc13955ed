"""The guide inside the application: the walk, every quantity, the keys, cautions, licences."""

from __future__ import annotations

from collections.abc import Callable
from importlib.metadata import PackageNotFoundError, distribution
from importlib.resources import files

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QTextBrowser, QVBoxLayout, QWidget

from jiyuu import __version__
from jiyuu.desktop.acts import shown_keys
from jiyuu.desktop.parts.aside import Aside
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.style import STEP
from jiyuu.wording.findings import QUANTITIES

GUIDE, KEYS, ABOUT = "Guide to the walk", "Keys and cautions", "About, licences"
IN_FIGURES = (
    ("← →", "cutoff by a semitone, or the control's position by 1 %; with Shift a tenth of it"),
    ("↑ ↓", "on the map: resonance by 1 %; with Shift by 0.1 %"),
    ("Ctrl ← →", "the reading cursor; with Shift by ten steps"), ("Page up, Page down", "the cursor to another curve"),
    ("Alt ← →", "move what is shown"), ("+ − Home", "zoom; the whole range"),
    ("[ ] { }", "move, stretch the slope's window in the figure of the local slope"),
    ("Tab", "next control; Enter or Space acts"), ("double-click", "a control back to the filter's file"),
)
CAUTIONS = (
    "Self-oscillation and feedback can jump to full level: start low. Long tones near 3 kHz, ultrasonics and DC can "
    "harm ears and loudspeakers. Building: check rail polarity before power; mind the hot iron, fumes and charged "
    "capacitors. Mains voltage is for people licensed for it, under local codes."
)
PACKAGES = ("PyQt6", "pyqtgraph", "numpy", "scipy", "numba", "llvmlite", "ducc0", "pydantic", "soundfile",
            "matplotlib", "contourpy", "pyloudnorm", "mosqito", "miniaudio", "typer", "typing-extensions", "rich",
            "platformdirs", "Jinja2")


class Help(QObject):
    """One window, made when it is first asked for; it may stay open beside the work."""

    def __init__(self, parent: QWidget, acts: Callable[[], list[Act]]) -> None:
        super().__init__(parent)
        self._parent, self._acts = parent, acts
        self.window: HelpWindow | None = None

    def open_for(self, view: StepView) -> None:
        """What the chosen finding of a step means; the guide where none is chosen."""
        quantity = view.findings.current_quantity() if view.findings is not None and view.findings.hasFocus() else None
        self._open(QUANTITIES[quantity].title if quantity else GUIDE)

    def open_keys(self) -> None:
        self._open(KEYS)

    def open_about(self) -> None:
        self._open(ABOUT)

    def _open(self, page: str) -> None:
        if self.window is None:
            self.window = HelpWindow(self._parent, self._acts)
        self.window.show_page(page)
        self.window.show()
        self.window.raise_()
        self.window.activateWindow()


class HelpWindow(Aside):
    """Pages at the left, found by typing; Esc closes."""

    def __init__(self, parent: QWidget, acts: Callable[[], list[Act]]) -> None:
        super().__init__(parent, "Guide", (820, 560))
        self._acts = acts
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a quantity")
        self.search.setAccessibleName("Find a quantity")
        self.search.textChanged.connect(self._filter)
        self.pages = QListWidget()
        self.pages.setAccessibleName("Pages")
        self.pages.addItems([GUIDE, KEYS, ABOUT, *sorted({quantity.title for quantity in QUANTITIES.values()})])
        self.pages.currentTextChanged.connect(self._show)
        self.text = QTextBrowser()
        self.text.setOpenExternalLinks(False)
        self.text.setAccessibleName("Text")
        row = QHBoxLayout(self)
        row.setContentsMargins(3 * STEP, 3 * STEP, 3 * STEP, 3 * STEP)
        left = QVBoxLayout()
        left.addWidget(self.search)
        left.addWidget(self.pages, 1)
        row.addLayout(left, 1)
        row.addWidget(self.text, 3)

    def show_page(self, title: str) -> None:
        """A page by its name."""
        self.search.clear()
        for i in range(self.pages.count()):
            item = self.pages.item(i)
            if item is not None and item.text() == title:
                self.pages.setCurrentRow(i)
                self._show(title)

    def _filter(self, text: str) -> None:
        for i in range(self.pages.count()):
            item = self.pages.item(i)
            if item is not None:
                item.setHidden(text.lower() not in item.text().lower())

    def _show(self, title: str) -> None:
        if title == GUIDE:
            self.text.setMarkdown(files("jiyuu.desktop").joinpath("guide.md").read_text(encoding="utf-8"))
        elif title == KEYS:
            self.text.setHtml(self._keys())
        elif title == ABOUT:
            self.text.setHtml(_about())
        else:
            found = [quantity for quantity in QUANTITIES.values() if quantity.title == title]
            self.text.setPlainText("\n\n".join(quantity.help.replace("\n", "\n\n") for quantity in found))

    def _keys(self) -> str:
        rows = [(shown_keys(act), act.text.replace("&", "")) for act in self._acts() if shown_keys(act)]
        table = "".join(f"<tr><td><b>{keys}</b>&nbsp;&nbsp;</td><td>{does}</td></tr>" for keys, does in
                        [*rows, *IN_FIGURES])
        return (f"<p>{CAUTIONS}</p><table>{table}</table><p>Single letters act in the figures and in the list of "
                "findings; they can be changed or turned off under Preferences.</p>")


def _about() -> str:
    used = []
    for name in PACKAGES:
        try:
            meta = distribution(name).metadata.json
        except PackageNotFoundError:
            continue
        licence = str(meta.get("license_expression") or meta.get("license") or "").strip()
        if not licence or "\n" in licence:  # none, or the whole text; its name stands among the classifiers
            named = [one.split(" :: ")[-1] for one in meta.get("classifier", ()) if one.startswith("License")]
            licence = named[0] if named else licence.partition("\n")[0] or "see the package"
        used.append(f"<li>{name} {meta['version']}: {licence[:60]}</li>")
    faces = files("jiyuu.desktop.theme.fonts").joinpath("LICENCE-fonts.txt").read_text(encoding="utf-8")
    return (f"<h3>Jiyuu {__version__}</h3><p>A bench for voltage-controlled filters. MIT licence.</p>"
            f"<p>It stands on:</p><ul>{''.join(used)}</ul><p>Typefaces shipped with it:</p>"
            f"<pre>{faces.replace('<', '&lt;')}</pre>")
