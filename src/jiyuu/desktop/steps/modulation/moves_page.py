"""What moves: a starting point, the two bounds of the cutoff, routes with their amounts, the fields of each control."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QMenu, QPushButton, QVBoxLayout, QWidget

from jiyuu.bench.setup import Setup
from jiyuu.bench.starting_points import STARTING_POINTS
from jiyuu.desktop.parts.frame import form, narrow, scrolled
from jiyuu.desktop.parts.knobs import number_field
from jiyuu.desktop.parts.model_form import ModelForm
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.steps.modulation.presenter import MAKE, ModulationPresenter
from jiyuu.desktop.theme.style import STEP
from jiyuu.patch.controls import AnyControl, FigureDocument, FollowerControl, SignalControl
from jiyuu.patch.editing import places
from jiyuu.prediction.moving import Moves
from jiyuu.quantities import parse_frequency, shown_hz

CHOOSE = "choose a starting point …"
OF_FIGURE = ("root_hz", "step_s", "swing", "slide_s", "direction")
LISTED = ("kind", "values", "beats")  # what has no field of its own here


def _heading(text: str) -> QLabel:
    label = QLabel(text)
    label.setProperty("role", "heading")
    return label


class MovesPage(QWidget):
    """Made anew when other controls or routes stand; else only their values are shown."""

    def __init__(self, presenter: ModulationPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._key: object = None
        self._inside: QWidget | None = None
        self.routes: list[TypedValue] = []
        self.controls: dict[str, ModelForm] = {}
        self.figure: ModelForm | None = None
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        self.start = narrow(QComboBox())
        self.start.setAccessibleName("Starting point")
        self.start.addItem(CHOOSE)
        for key, point in STARTING_POINTS.items():
            self.start.addItem(point.title, key)
            self.start.setItemData(self.start.count() - 1, point.says, 3)  # tool tip
        self.start.activated.connect(self._start)
        whole.addWidget(self.start)
        rows = form()
        self.low, self.high = self._bound("Cutoff from"), self._bound("Cutoff to")
        rows.addRow("Cutoff from", self.low)
        rows.addRow("Cutoff to", self.high)
        whole.addLayout(rows)
        area, self._column = scrolled()
        whole.addWidget(area, 1)
        self.add = QPushButton("Add a control")
        menu = QMenu(self.add)
        for kind in MAKE:
            menu.addAction(kind.upper() if kind == "lfo" else kind.capitalize(), partial(presenter.add_control, kind))
        self.add.setMenu(menu)
        whole.addWidget(self.add)

    def _start(self, index: int) -> None:
        key = self.start.itemData(index)
        self.start.setCurrentIndex(0)
        if key:
            self._presenter.start_from(key)

    def _bound(self, title: str) -> TypedValue:
        field = TypedValue(title, parse=parse_frequency, show=shown_hz,
                           stepped=lambda value, way, fine: value * 2 ** (way * (0.1 if fine else 1.0) / 12))
        field.setToolTip("Typed or dragged in the figure: the knob and all amounts follow, so that it is met exactly.")
        field.entered.connect(lambda value: self._presenter.set_bounds(
            *((value, self.high.value) if field is self.low else (self.low.value, value))))
        field.refused.connect(lambda text: self._presenter.message.emit(text, True))
        return field

    def show_moves(self, moves: Moves | None, target: str) -> None:
        """The bounds that are reached."""
        span = None if moves is None else moves.span(target)
        for field, value in ((self.low, None if span is None else span.wanted_least),
                             (self.high, None if span is None else span.wanted_greatest)):
            field.setEnabled(value is not None)
            if value is not None:
                field.set_value(value)

    def show_setup(self, setup: Setup) -> None:
        key = (tuple((name, type(control)) for name, control in setup.controls.items()),
               tuple((route.source, route.target, route.unit) for route in setup.routes), setup.figure is None)
        if key != self._key:
            self._key = key
            self._build(setup)
        for field, route in zip(self.routes, setup.routes, strict=True):
            field.set_value(route.amount)
        for name, made in self.controls.items():
            made.show(_shown(setup.controls[name]))
        if self.figure is not None and setup.figure is not None:
            self.figure.show(setup.figure)

    def _build(self, setup: Setup) -> None:
        if self._inside is not None:
            self._column.removeWidget(self._inside)
            self._inside.hide()
            self._inside.deleteLater()
        self._inside = QWidget()
        column = QVBoxLayout(self._inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.routes, self.controls, self.figure = [], {}, None
        if setup.routes:
            column.addWidget(_heading("What moves what"))
        for i, route in enumerate(setup.routes):
            column.addLayout(self._route(i, f"{route.source} → {route.target}", route.unit or ""))
        for name, control in setup.controls.items():
            column.addLayout(self._titled(name, control))
            names = [field for field in type(control).model_fields if _has_field(control, field)]
            made = ModelForm(type(control), names, partial(self._presenter.change_control, name), self._refused,
                             choices=_choices(control, setup), before=f"{name}: ")
            self.controls[name] = made
            column.addLayout(made.rows)
        if setup.figure is not None:
            column.addWidget(_heading("Figure"))
            self.figure = ModelForm(FigureDocument, OF_FIGURE, self._presenter.change_figure, self._refused,
                                    before="Figure: ")
            column.addLayout(self.figure.rows)
        column.addStretch(1)
        self._column.addWidget(self._inside)

    def _refused(self, text: str) -> None:
        self._presenter.message.emit(text, True)

    def _route(self, which: int, said: str, unit: str) -> QHBoxLayout:
        row = QHBoxLayout()
        label = QLabel(said)
        label.setWordWrap(True)
        field = number_field(f"Amount of {said}", unit, 0.1)
        field.entered.connect(lambda value: self._presenter.change_route(which, amount=value))
        field.refused.connect(self._refused)
        self.routes.append(field)
        away = QPushButton("×")
        away.setAccessibleName(f"Take {said} out")
        away.setFixedWidth(6 * STEP)
        away.clicked.connect(lambda: self._presenter.remove_route(which))
        row.addWidget(label, 3)
        row.addWidget(field, 2)
        row.addWidget(away)
        return row

    def _titled(self, name: str, control: AnyControl) -> QHBoxLayout:
        """A control's name; onto which target it may be routed, too; out with it."""
        row = QHBoxLayout()
        row.addWidget(_heading(f"{name}, {control.kind}"), 1)
        onto = QPushButton("onto …")
        onto.setAccessibleName(f"Route {name} onto")
        menu = QMenu(onto)
        for target in self._presenter.targets():
            menu.addAction(target, partial(self._presenter.add_route, name, target))
        onto.setMenu(menu)
        away = QPushButton("×")
        away.setAccessibleName(f"Take the control {name} out")
        away.setFixedWidth(6 * STEP)
        away.clicked.connect(lambda: self._presenter.remove_control(name))
        row.addWidget(onto)
        row.addWidget(away)
        return row


def _has_field(control: AnyControl, field: str) -> bool:
    """Gates and clocks that are a control's name are chosen from a list; rates are typed."""
    value = getattr(control, field)
    return field not in LISTED and (value is not None or field == "rate_hz")


def _choices(control: AnyControl, setup: Setup) -> dict[str, list[Any]]:
    """What a field that names a control may be."""
    found: dict[str, list[object]] = {}
    others = [name for name in setup.controls if setup.controls[name] is not control]
    for field in ("gate", "clock", "of"):
        value = getattr(control, field, None)
        if isinstance(control, FollowerControl | SignalControl) and field == "of":
            heard = [f"source {i + 1}" for i in range(len(setup.inputs))]
            stages = [stage.id for _, stage in places(setup.path) if stage.id] or [setup.in_hand]
            found[field] = list(dict.fromkeys([value, *heard, *(stages if control.kind == "signal" else [])]))
        elif field in type(control).model_fields and isinstance(value, str) and control.kind != "figure":
            extra = ["noise"] if field == "of" else []
            found[field] = list(dict.fromkeys([value, *(["figure"] if setup.figure else []), *extra, *others]))
    for field, info in type(control).model_fields.items():
        if info.annotation is bool:
            found[field] = [False, True]
    return found


def _shown(control: AnyControl) -> dict[str, object]:
    return {name: value for name, value in control.model_dump().items() if name not in LISTED}
