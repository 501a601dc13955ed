"""The circuit behind a filter: its drawing, what it is, and its parameters grouped by what they do."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtCore import QByteArray, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QLabel, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from jiyuu.circuits.circuit import Circuit, Parameter
from jiyuu.circuits.diagram import Diagram, diagram_svg
from jiyuu.desktop.parts.frame import form
from jiyuu.desktop.parts.typed_value import TypedValue
from jiyuu.desktop.steps.response.components_section import ComponentsSection
from jiyuu.desktop.theme.style import FACE, STEP, THEME
from jiyuu.errors import CircuitError
from jiyuu.quantities import parse_number


class DrawingView(QWidget):
    """A circuit's block diagram, as wide as there is room."""

    def __init__(self) -> None:
        super().__init__()
        self._diagram: Diagram | None = None
        self._renderer = QSvgRenderer()
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def show_diagram(self, diagram: Diagram, name: str) -> None:
        self._diagram = diagram
        self.setAccessibleName(f"Block diagram: {name}")
        self.restyle()

    def restyle(self) -> None:
        """In the inks of the theme."""
        if self._diagram is None:
            return
        palette = THEME.palette
        svg = diagram_svg(self._diagram, ink=palette.ink, quiet=palette.quiet, face=FACE)
        self._renderer.load(QByteArray(svg.encode()))
        self.setFixedHeight(self._fitted(self.width()).height())
        self.update()

    def _fitted(self, width: int) -> QSize:
        natural = self._renderer.defaultSize()
        if not natural.isValid() or natural.width() <= 0:
            return QSize(width, 10)
        share = min(width / natural.width(), 1.15 * THEME.scale)
        return QSize(round(natural.width() * share), round(natural.height() * share))

    def resizeEvent(self, event: object) -> None:
        height = self._fitted(self.width()).height()
        if height != self.height():
            self.setFixedHeight(height)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        size = self._fitted(self.width())
        self._renderer.render(painter, self.rect().adjusted(0, 0, size.width() - self.width(), 0).toRectF())


class CircuitPage(QScrollArea):
    """Parameters as typed values; a change is told, not applied."""

    changed = pyqtSignal(str, float)
    reset = pyqtSignal(str)
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.drawing = DrawingView()
        self._explanation = QLabel()
        self._explanation.setWordWrap(True)
        self.fields: dict[str, TypedValue] = {}
        self._circuit_id: str | None = None
        self._inner = QWidget()
        self._column = QVBoxLayout(self._inner)
        self._column.setContentsMargins(0, 0, STEP, 0)
        self._column.setSpacing(STEP)
        self._column.addWidget(self.drawing)
        self._column.addWidget(self._explanation)
        self._groups = QWidget()
        self._column.addWidget(self._groups)
        self.components = ComponentsSection()
        self.components.refused.connect(self.refused)
        self._column.addWidget(self.components)
        self._column.addStretch(1)
        self.setWidget(self._inner)
        self.setAccessibleName("Circuit")

    def show_circuit(self, circuit: Circuit, values: Mapping[str, float]) -> None:
        """A circuit with the parameter values in force."""
        if circuit.id != self._circuit_id:
            self._circuit_id = circuit.id
            self.drawing.show_diagram(circuit.diagram, circuit.title)
            self._explanation.setText(circuit.explanation)
            self._build(circuit)
        for name, value in circuit.values(values).items():
            self.fields[name].set_value(value)

    def restyle(self) -> None:
        """The drawing in the theme's colours."""
        self.drawing.restyle()

    def _build(self, circuit: Circuit) -> None:
        old = self._groups
        self._groups = QWidget()
        column = QVBoxLayout(self._groups)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self.fields = {}
        for group in dict.fromkeys(parameter.group for parameter in circuit.parameters):
            heading = QLabel(group)
            heading.setProperty("role", "heading")
            column.addWidget(heading)
            rows = form()
            for parameter in circuit.parameters:
                if parameter.group == group:
                    rows.addRow(_spoken(parameter), self._field(parameter))
            column.addLayout(rows)
        self._column.replaceWidget(old, self._groups)
        old.deleteLater()

    def _field(self, parameter: Parameter) -> TypedValue:
        unit = f" {parameter.unit}" if parameter.unit else ""
        span = parameter.maximum - parameter.minimum
        field = TypedValue(
            _spoken(parameter), parse=_parser(parameter), show=lambda value: f"{value:.5g}{unit}",
            stepped=lambda value, way, fine: min(
                max(value + way * span * (0.001 if fine else 0.01), parameter.minimum), parameter.maximum
            ),
        )
        field.setToolTip(f"{parameter.meaning}. {parameter.minimum:g} to {parameter.maximum:g}{unit}; "
                         f"the drawing has {parameter.default:g}{unit}.")
        name = parameter.name
        field.entered.connect(lambda value: self.changed.emit(name, value))
        field.reset.connect(lambda: self.reset.emit(name))
        field.refused.connect(self.refused)
        self.fields[name] = field
        return field


def _parser(parameter: Parameter) -> Callable[[str], float]:
    def parse(text: str) -> float:
        value, unit = parse_number(text)
        if unit not in ("", parameter.unit):
            raise CircuitError(f"'{text}' is not in {parameter.unit or 'plain numbers'}; type for example "
                               f"{parameter.default:g} {parameter.unit}.")
        return parameter.checked(value)

    return parse


def _spoken(parameter: Parameter) -> str:
    """'stage_1_mismatch_percent' -> 'Stage 1 mismatch'."""
    words = parameter.name.replace("_", " ")
    for ending in (" percent", " v", " hz", " octaves"):
        words = words.removesuffix(ending)
    return words[:1].upper() + words[1:]
