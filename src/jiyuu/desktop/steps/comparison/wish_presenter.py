"""State of choosing a filter by what it shall be: the wishes, the search, its proposals, what becomes of one."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.bench.designing import designed_sentence
from jiyuu.bench.side_by_side import subject_of
from jiyuu.character.design import Designed, Proposal, design_steps
from jiyuu.character.wish import Wish, Wishes, read_wishes, values_of, wishes_of, write_wishes
from jiyuu.circuits.netlist import netlist_text
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.session import Session
from jiyuu.errors import JiyuuError
from jiyuu.quantities import parse_frequency, parse_number
from jiyuu.whole_file import write_text

KEPT_AS = "wish"  # among a filter's settings
FIRST = ("cutoff_3db_hz", "slope_db_per_octave", "peak_db")
TOLERANCES = {"hz": 0.02, "other": 0.5}  # share of a frequency; of anything else in its unit


class WishPresenter(QObject):
    """Wishes stand beside the filter in hand; every change of one is an act that can be taken back."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.found: Designed | None = None
        self.done = False
        self._searching = Jobs(session.crew, "looking for a filter", self)
        self._searching.stepped.connect(self._on_found)
        self._searching.finished.connect(self._on_end)
        self._searching.failed.connect(self._on_failed)
        session.filter_changed.connect(self._stands_otherwise)
        session.settings_changed.connect(self._stands_otherwise)
        self._shown: Wishes | None = None

    # Wishes

    @property
    def wishes(self) -> Wishes:
        """Those of the filter in hand; to begin with, what it is itself."""
        kept = self._session.kept().get(KEPT_AS)
        if kept is not None:
            with suppress(JiyuuError):  # of a version to come, or damaged: begun anew
                return wishes_of(kept, source="The wish in this book")
        return self._as_it_is()

    def _as_it_is(self) -> Wishes:
        if self._session.in_hand is None:
            return Wishes(wishes=(Wish(quantity="cutoff_3db_hz", target=1000.0, tolerance=20.0),))
        values = values_of(subject_of(self._session.standing()), FIRST)
        made = tuple(_usual(name, float(value)) for name, value in zip(FIRST, values, strict=True) if value == value)
        return Wishes(wishes=made or (_usual("cutoff_3db_hz", 1000.0),))

    def _keep(self, document: dict[str, object]) -> None:
        """As one act, or said why not."""
        try:
            wishes = wishes_of(document, source="Wish")
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self.changed.emit()
            return
        self._session.change({KEPT_AS: wishes.model_dump(mode="json")})
        self.changed.emit()

    def change(self, i: int, field: str, text: str) -> None:
        """A target, tolerance or weight as it was typed."""
        document = self.wishes.model_dump(mode="json")
        wish = document["wishes"][i]
        try:
            hertz = wish["quantity"].endswith("_hz") and field == "target"
            wish[field] = parse_frequency(text) if hertz else parse_number(text)[0]
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self.changed.emit()
            return
        self._keep(document)

    def change_quantity(self, i: int, quantity: str) -> None:
        """Another quantity in that place, wished as the filter in hand has it."""
        document = self.wishes.model_dump(mode="json")
        document["wishes"][i] = self._wished(quantity).model_dump(mode="json")
        self._keep(document)

    def add(self, quantity: str) -> None:
        """One more, as the filter in hand has it."""
        document = self.wishes.model_dump(mode="json")
        document["wishes"].append(self._wished(quantity).model_dump(mode="json"))
        self._keep(document)

    def remove(self, i: int) -> None:
        document = self.wishes.model_dump(mode="json")
        if len(document["wishes"]) == 1:
            self.message.emit("One wish must stand; change it instead.", False)
            return
        del document["wishes"][i]
        self._keep(document)

    def change_parts(self, **changes: object) -> None:
        """Series of values, spread of the capacitors."""
        document = self.wishes.model_dump(mode="json")
        document["parts"] |= changes
        self._keep(document)

    def _wished(self, quantity: str) -> Wish:
        value = float("nan")
        if self._session.in_hand is not None:
            value = float(values_of(subject_of(self._session.standing()), (quantity,))[0])
        return _usual(quantity, value if value == value else 1000.0 if quantity.endswith("_hz") else 0.0)

    # The search

    @property
    def busy(self) -> bool:
        return self._searching.busy

    def look_for(self) -> None:
        """Every circuit and mode; seconds, proposals as they are found."""
        wishes = self.wishes
        self.found, self.done = None, False

        def steps() -> Iterator[object]:
            yield from design_steps(wishes)

        self._shown = wishes
        self._searching.start(steps)
        self.changed.emit()

    def _on_found(self, found: Designed) -> None:
        self.found = found
        self.changed.emit()

    def _on_end(self) -> None:
        self.done = True
        self.changed.emit()

    def _on_failed(self, text: str) -> None:
        self.message.emit(text, True)
        self.changed.emit()

    def _stands_otherwise(self) -> None:
        """Proposals for other wishes are none for these."""
        if self._shown is not None and self.wishes != self._shown:
            self.leave()
        self.changed.emit()

    def leave(self) -> None:
        """A search nobody waits for is given up."""
        self._searching.drop()
        self.found, self._shown, self.done = None, None, False

    @property
    def says(self) -> str:
        """How it stands, in words."""
        if self.busy:
            count = 0 if self.found is None else len(self.found.proposals)
            return f"Looking through every circuit and mode … {count} found so far."
        return "" if self.found is None or not self.done else designed_sentence(self.found)

    @property
    def proposals(self) -> tuple[Proposal, ...]:
        return () if self.found is None else self.found.proposals

    # What becomes of one

    def shelve(self, i: int) -> None:
        """Onto the shelf, in hand."""
        if 0 <= i < len(self.proposals):
            document = self.proposals[i].subject.filter
            try:
                letter = self._session.shelve(document)
            except JiyuuError as error:
                self.message.emit(str(error), True)
                return
            self.message.emit(f"{document.name} stands on the shelf as {letter}.", False)

    def write_netlist(self, i: int, path: Path) -> None:
        """SPICE format."""
        subject = self.proposals[i].subject
        write_text(path, netlist_text(subject.filter.entry, subject.network, title=subject.filter.name,
                                      cutoff_hz=subject.cutoff_hz, gain=subject.gain))
        self.message.emit(f"{path.name} holds {subject.filter.name} for a circuit simulator.", False)

    def open(self, path: Path) -> None:
        """A wish file. Raises JiyuuError."""
        self._session.change({KEPT_AS: read_wishes(path).model_dump(mode="json")})
        self.changed.emit()

    def save(self, path: Path) -> None:
        """Raises JiyuuError where it cannot be written."""
        write_wishes(path, self.wishes)
        self.message.emit(f"{path.name} holds these wishes.", False)


def _usual(quantity: str, value: float) -> Wish:
    rounded = float(f"{value:.4g}")
    tolerance = TOLERANCES["hz"] * rounded if quantity.endswith("_hz") else TOLERANCES["other"]
    return Wish(quantity=quantity, target=rounded, tolerance=float(f"{tolerance:.2g}"), weight=1.0)

