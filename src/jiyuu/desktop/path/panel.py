"""What is chosen in the signal path, to be set: its fields, and what can be done with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

from pydantic import BaseModel
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QMenu, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.setup import Setup, SourceSetting
from jiyuu.circuits.catalogue import circuits
from jiyuu.desktop.parts.frame import SideColumn, form, narrow, scrolled
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.path.presenter import KINDS, PathPresenter, holds_paths
from jiyuu.desktop.path.shown import COMES_IN, LEVEL, NEXT, SOURCE, TRIM
from jiyuu.desktop.path.words import STAGES, stage_name
from jiyuu.desktop.theme.style import STEP
from jiyuu.errors import CircuitError
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import (
    AnyStage,
    Chord,
    Curve,
    Feedback,
    FilterStage,
    Gain,
    Limb,
    Pair,
    Parallel,
    PatchSource,
    Resonator,
    Shape,
    Stereo,
)
from jiyuu.patch.editing import stage_at
from jiyuu.patch.linear_stages import AllPass, Bank, Formants, Group
from jiyuu.patch.response import judged_loop
from jiyuu.patch.shapes import Band, Shapes
from jiyuu.signals.source import SourceKind
from jiyuu.wording.loops import loop_line

NO_CURVE = "none"
FIELDS: dict[type[object], tuple[str, ...]] = {
    Gain: ("db", "polarity"), Shape: ("kind", "headroom_v", "bias_v"), Feedback: ("amount",),
    Stereo: ("spacing_octaves",), Parallel: (), Pair: ("arrangement", "cutoff_hz", "spacing_octaves"),
    Bank: ("tuned", "spacing_semitones", "lowest_hz", "q"), Formants: ("from_", "to", "morph", "shift_octaves"),
    AllPass: ("cutoff_hz", "feedback", "mix"), Comb: ("frequency_hz", "feedback", "mix"),
    Resonator: ("kind", "range", "cutoff_hz", "q", "headroom_v"),
    Chord: ("root_hz", "inversion", "feedback", "mix"),
    Crush: ("rate_hz", "bits", "full_scale_v"),
    Shapes: ("trim_db",), FilterStage: ("cutoff_hz", "resonance_percent"),
}
OF_SETUP = {LEVEL: ("Level ahead of the path", ("drive_db",)), TRIM: ("Output and trim", ("trim_db",)),
            NEXT: ("What comes next", ("next_limit_v",))}


@dataclass(frozen=True, slots=True)
class Several:
    """What a stage has several of: the field that holds them, what one is called, its model and fields, how many stay
    at least."""

    field: str
    name: str
    model: type[BaseModel]
    fields: tuple[str, ...]
    least: int


SEVERAL: dict[type, Several] = {
    Parallel: Several("branches", "branch", Limb, ("level_db", "polarity", "pan"), 1),
    Shapes: Several("bands", "band", Band, ("kind", "frequency_hz", "gain_db", "q"), 0),
    Bank: Several("groups", "group", Group, ("polarity", "level_db", "feedback"), 1),
}
SHAPED = "Space switches it off or on, Delete takes it out, Ctrl+Left and Ctrl+Right move it."


class StagePanel(QWidget):
    """Made anew for every choice: few fields, one kind of stage at a time."""

    source_wanted = pyqtSignal()
    back = pyqtSignal()

    def __init__(self, presenter: PathPresenter, *, inside_a_step: bool = False) -> None:
        super().__init__()
        self._presenter = presenter
        self._key: object = None
        self._show: Callable[[], None] = lambda: None
        self.first: QWidget | None = None
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        self._column = SideColumn()
        whole.addWidget(self._column)
        area, self._fields = scrolled()
        self._inside: QWidget | None = None
        self._column.add(area, 1)
        self.add = QPushButton("Add behind it")
        menu = QMenu(self.add)
        for kind in (*KINDS, "feedback"):
            menu.addAction(STAGES[kind], partial(presenter.add, kind))
        self.add.setMenu(menu)
        self.acts = {
            "off": self._button("Switch off", presenter.switch), "away": self._button("Take out", presenter.remove),
            "left": self._button("Move left", partial(presenter.move, -1)),
            "right": self._button("Move right", partial(presenter.move, 1)),
            "dry": self._button("Put beside dry", presenter.beside_dry),
            "open": self._button("Unwrap", presenter.open_up),
        }
        self.acts["dry"].setToolTip("The stage as one branch, the signal as it comes in as the other.")
        self.acts["open"].setToolTip("What holds these paths goes, the first of them stays.")
        rows = QGridLayout()
        rows.setSpacing(STEP)
        for i, button in enumerate(self.acts.values()):
            rows.addWidget(button, i // 2, i % 2)
        self._column.add(rows)
        self._column.add(self.add)
        if inside_a_step:
            self._column.narrow()
        else:
            self._column.add(self._button("Back to the step  Esc", self.back.emit))

    @staticmethod
    def _button(text: str, do: Callable[[], object]) -> QPushButton:
        button = QPushButton(text)
        button.clicked.connect(lambda: do())
        return button

    def refresh(self) -> None:
        """For what is chosen now."""
        presenter, item = self._presenter, self._presenter.chosen
        if item is None or presenter.shown is None:
            return
        stage = presenter.stage()
        members = 0 if (several := SEVERAL.get(type(stage))) is None else len(getattr(stage, several.field))
        key = (item, type(stage), presenter.is_in_hand, members)
        if key != self._key:
            self._key = key
            self._build(item, stage)
        is_stage = stage is not None
        for name, button in self.acts.items():
            button.setVisible(is_stage if name != "open" else stage is not None and holds_paths(stage))
            button.setEnabled(not (presenter.is_in_hand and name in ("off", "away")))
        if stage is not None:
            self.acts["off"].setText("Switch on" if stage.off else "Switch off")
        self._column.circuit.setText(
            presenter.shown.boxes[item].name if stage is None else
            "The filter in hand" if presenter.is_in_hand else stage_name(stage))
        self._show()

    def _build(self, item: object, stage: AnyStage | None) -> None:
        if self._inside is not None:
            self._fields.removeWidget(self._inside)
            self._inside.hide()
            self._inside.deleteLater()
        self._inside = QWidget()
        column = QVBoxLayout(self._inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.forms: list[ModelForm] = []
        self.first = None
        shows = self._fill(column, item, stage)
        column.addStretch(1)
        self._fields.addWidget(self._inside)

        def show() -> None:
            for one in shows:
                one()

        self._show = show

    def _fill(self, column: QVBoxLayout, item: Any, stage: AnyStage | None) -> list[Callable[[], None]]:
        """The fields of what is chosen; what shows their values."""
        presenter = self._presenter
        if item == SOURCE:
            column.addWidget(self._note("What is played into the path, up to eight sources mixed."))
            go = self._button("Set the source", self.source_wanted.emit)
            self.first = go
            column.addWidget(go)
            return []
        if stage is None:
            title, names = OF_SETUP[item]
            made = self._form(column, Setup, names, presenter.set_setup)
            column.addWidget(self._note(title + "."))
            return [lambda: made.show(presenter.standing().setup)]
        if presenter.is_in_hand:
            column.addWidget(self._note(
                "Mode, cutoff and resonance stand in every step. What is chosen here can be moved, put beside the dry "
                "signal or into a loop; what is added comes behind it."))
            return []
        shows = [self._named(column)]
        if isinstance(stage, FilterStage):
            shows.append(self._filter(column))
        elif FIELDS[type(stage)]:
            made = self._form(column, type(stage), FIELDS[type(stage)], presenter.set_field)
            shows.append(lambda: made.show(presenter.stage() or stage))
        if isinstance(stage, Feedback):
            shows.append(self._loop(column))
        if isinstance(stage, Pair):
            shows += [self._paired(column, which) for which in ("first", "second")]
        several = SEVERAL.get(type(stage))
        if several is not None:
            count = len(getattr(stage, several.field))
            shows += [self._member(column, several, k) for k in range(count)]
            column.addWidget(self._button(f"Another {several.name}",
                                          partial(presenter.set_member, several.field, count)))
        if isinstance(stage, Stereo):
            side = self._form(column, Setup, ("side",), presenter.set_setup)
            shows.append(lambda: side.show(presenter.standing().setup))
        column.addWidget(self._note(SHAPED))
        return shows

    def _form(self, column: QVBoxLayout, model: Any, names: tuple[str, ...], entered: Callable[..., object],
              **more: Any) -> ModelForm:
        made = ModelForm(model, names, entered, lambda text: self._presenter.message.emit(text, True), **more)
        self.forms.append(made)
        self.first = self.first or made.field(names[0])
        column.addLayout(made.rows)
        return made

    @staticmethod
    def _note(text: str) -> QLabel:
        label = QLabel(text)
        label.setProperty("role", "quiet")
        label.setWordWrap(True)
        return label

    def _named(self, column: QVBoxLayout) -> Callable[[], None]:
        """What routes and findings call it."""
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the stage")
        self.name.setPlaceholderText("no name")
        self.name.setMaxLength(120)
        self.name.returnPressed.connect(lambda: self._presenter.set_field(id=self.name.text().strip() or None))
        rows = form()
        rows.addRow("Name", self.name)
        column.addLayout(rows)

        def show() -> None:
            stage = self._presenter.stage()
            if stage is not None and not (self.name.hasFocus() and self.name.isModified()):
                self.name.setText(stage.id or "")

        return show

    def _filter(self, column: QVBoxLayout) -> Callable[[], None]:
        """Circuit and mode, cutoff and resonance."""
        presenter, rows = self._presenter, form()
        self.circuit, self.mode = narrow(QComboBox()), narrow(QComboBox())
        self.circuit.setAccessibleName("Circuit of the stage")
        self.mode.setAccessibleName("Mode of the stage")
        for entry in circuits().values():
            self.circuit.addItem(entry.title, entry.id)
        self.circuit.activated.connect(lambda index: presenter.set_field(
            filter=self.circuit.itemData(index), mode=None, parameters={}))
        self.mode.textActivated.connect(lambda text: presenter.set_field(mode=text))
        rows.addRow("Circuit", self.circuit)
        rows.addRow("Mode", self.mode)
        column.addLayout(rows)

        def entered(**changes: float) -> None:
            # What is typed as a position goes before a loop gain that a file stated.
            presenter.set_field(**({"resonance_gain": None, **changes} if "resonance_percent" in changes else changes))

        made = self._form(column, FilterStage, FIELDS[FilterStage], entered)

        def show() -> None:
            stage = presenter.stage()
            if isinstance(stage, FilterStage):
                document = stage.document
                self.circuit.setCurrentText(document.entry.title)
                if self.mode.count() != len(document.entry.modes) or self.mode.itemText(0) != document.entry.modes[0]:
                    self.mode.clear()
                    self.mode.addItems(document.entry.modes)
                self.mode.setCurrentText(document.chosen_mode)
                made.show({"cutoff_hz": document.cutoff_hz,
                           "resonance_percent": min(document.percent_at(stage.loop_gain), 100.0)})

        return show

    def _loop(self, column: QVBoxLayout) -> Callable[[], None]:
        """The curve it goes through, and from which amount it rings."""
        presenter = self._presenter
        kinds = (NO_CURVE, "tanh", "asinh", "clip", "fold")
        made = self._form(column, Curve, ("kind", "headroom_v"), lambda **changed: presenter.set_through(
            **{name: None if value == NO_CURVE else value for name, value in changed.items()}),
            choices={"kind": kinds}, before="Through: ")
        said = self._note("")
        said.setAccessibleName("Stability of the loop")
        column.addWidget(said)

        def show() -> None:
            stage, item = presenter.stage(), presenter.chosen
            if isinstance(stage, Feedback) and isinstance(item, tuple) and presenter.shown is not None:
                curve = stage.through
                made.show({"kind": NO_CURVE if curve is None else curve.kind,
                           "headroom_v": 1.0 if curve is None else curve.headroom_v})
                made.numbers["headroom_v"].setEnabled(curve is not None)
                placed = stage_at(presenter.shown.path, item)
                try:
                    assert isinstance(placed, Feedback)
                    loop = judged_loop(presenter.shown.path, placed, presenter.standing().setup.side)
                    said.setText("" if loop is None else loop_line(loop, stage.amount))
                except CircuitError as error:
                    said.setText(str(error))

        return show

    def _member(self, column: QVBoxLayout, several: Several, which: int) -> Callable[[], None]:
        """The fields of a branch, a band, a group."""
        presenter, called = self._presenter, f"{several.name.capitalize()} {which + 1}"
        title = QLabel(called)
        title.setProperty("role", "heading")
        column.addWidget(title)
        made = self._form(column, several.model, several.fields, partial(presenter.set_member, several.field, which),
                          before=f"{called}: ")
        sounds = self._own_source(column, which, called) if several.model is Limb else lambda: None
        away = self._button(f"Take this {several.name} out",
                            partial(presenter.set_member, several.field, which, gone=True))
        away.setAccessibleName(f"Take {several.name} {which + 1} out")
        column.addWidget(away)

        def show() -> None:
            stage = presenter.stage()
            members = getattr(stage, several.field, ())
            if which < len(members):
                made.show(members[which])
                sounds()
                away.setEnabled(len(members) > several.least)

        return show

    def _own_source(self, column: QVBoxLayout, which: int, called: str) -> Callable[[], None]:
        """What a branch takes instead of what comes in; of several the first."""
        presenter = self._presenter
        kinds = (COMES_IN, *(kind.value for kind in SourceKind if kind is not SourceKind.FILE))
        made = self._form(column, SourceSetting, ("kind", "pitch_hz", "level_v"),
                          lambda **changed: presenter.set_branch_source(which, **changed),
                          choices={"kind": kinds}, before=f"{called}, source: ")

        def show() -> None:
            stage = presenter.stage()
            assert isinstance(stage, Parallel)
            own = next(iter(stage.branches[which].sources), None)
            shown = PatchSource() if own is None else own
            made.show({**shown.model_dump(), "kind": COMES_IN if own is None else SourceKind(own.kind).value})
            for name in ("pitch_hz", "level_v"):
                made.numbers[name].setEnabled(own is not None)

        return show

    def _paired(self, column: QVBoxLayout, which: str) -> Callable[[], None]:
        """Circuit, mode and resonance of one of two filters."""
        presenter, rows = self._presenter, form()
        title = QLabel(f"{which.capitalize()} filter")
        title.setProperty("role", "heading")
        column.addWidget(title)
        circuit, mode = narrow(QComboBox()), narrow(QComboBox())
        circuit.setAccessibleName(f"Circuit of the {which} filter")
        mode.setAccessibleName(f"Mode of the {which} filter")
        for entry in circuits().values():
            circuit.addItem(entry.title, entry.id)

        def put(**changes: object) -> None:
            stage = presenter.stage()
            if isinstance(stage, Pair):
                one = getattr(stage, which).model_dump(exclude_defaults=True)
                presenter.set_field(**{which: {**one, **changes}})

        circuit.activated.connect(lambda index: put(filter=circuit.itemData(index), mode=None, parameters={}))
        mode.textActivated.connect(lambda text: put(mode=text))
        rows.addRow("Circuit", circuit)
        rows.addRow("Mode", mode)
        column.addLayout(rows)
        made = self._form(column, FilterStage, ("resonance_percent",),
                          lambda resonance_percent: put(resonance_gain=None, resonance_percent=resonance_percent),
                          before=f"{which.capitalize()}: ")

        def show() -> None:
            stage = presenter.stage()
            if isinstance(stage, Pair):
                placed = getattr(stage, which).at(stage.cutoff_hz)
                document = placed.document
                circuit.setCurrentText(document.entry.title)
                if [mode.itemText(i) for i in range(mode.count())] != list(document.entry.modes):
                    mode.clear()
                    mode.addItems(document.entry.modes)
                mode.setCurrentText(document.chosen_mode)
                made.show({"resonance_percent": min(document.percent_at(placed.loop_gain), 100.0)})

        return show
