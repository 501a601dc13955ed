"""The signal path as it is drawn below the figures: ruled boxes with their volts, branches that split and join, loops
that turn back; a click or a key chooses one, and what is chosen can be moved, taken out, switched off."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from jiyuu.desktop.path.layout import Drawn, Line, Spot, laid_out
from jiyuu.desktop.path.presenter import PathPresenter
from jiyuu.desktop.path.shown import Item
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME

ROOM = 7 * STEP  # px beside the words of a box
WIDEST = 190  # px of a box, at usual type: longer words are cut


class PathStrip(QWidget):
    """Left and Right choose, Enter sets, Space switches off, Delete takes out, Ctrl+Left and Ctrl+Right move, Insert
    adds."""

    set_wanted = pyqtSignal()  # Enter: to the fields of what is chosen
    add_wanted = pyqtSignal()

    def __init__(self, presenter: PathPresenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._drawn: Drawn | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Signal path")
        self.setToolTip("Small-signal estimate for the source as set up, half a second of it; saturation makes it "
                        "less. Click a stage to set it; Insert adds one, Delete takes it out, Space switches it off, "
                        "Ctrl+Left and Ctrl+Right move it.")
        presenter.changed.connect(self.refresh)
        THEME.changed.connect(self.refresh)
        self.refresh()

    # Size

    def _box_height(self) -> int:
        return QFontMetrics(THEME.font(px=BODY_PX)).height() + QFontMetrics(THEME.font(px=SMALL_PX)).height() + 2 * STEP

    def sizeHint(self) -> QSize:
        drawn = self._drawn
        wide, tall = (400.0, 1.0) if drawn is None else (drawn.width, drawn.height)
        return QSize(round(wide), round(self._box_height() * tall))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def refresh(self) -> None:
        """What stands now."""
        shown = self._presenter.shown
        self._drawn = None if shown is None else laid_out(shown, self._width_of)
        self.setAccessibleDescription("" if shown is None else shown.words)
        self.updateGeometry()
        self.update()

    def _width_of(self, item: Item) -> float:
        """Of a box with its words."""
        shown = self._presenter.shown
        assert shown is not None
        box = shown.boxes[item]
        wide = max(QFontMetrics(THEME.font(px=SMALL_PX)).horizontalAdvance(box.name),
                   QFontMetrics(THEME.font(px=BODY_PX, bold=True)).horizontalAdvance(f"! {box.text}"))
        return min(float(wide), WIDEST * THEME.scale) + ROOM

    def _unit(self) -> tuple[float, float]:
        """Pixels of a unit across and of a box's height."""
        assert self._drawn is not None
        return max(self.width() / self._drawn.width, 1.0), self.height() / self._drawn.height

    def rect_of(self, item: Item) -> QRect:
        """Where a place is drawn."""
        assert self._drawn is not None
        spot = next(spot for spot in self._drawn.spots if spot.item == item)
        wide, tall = self._unit()
        return QRectF(spot.x * wide, spot.y * tall, spot.width * wide, spot.height * tall).toRect()

    # Drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(THEME.palette.strong_rule), 1))
        painter.drawLine(0, 0, self.width(), 0)
        if self._drawn is None:
            return
        for line in self._drawn.lines:
            self._draw_line(painter, line)
        for spot in self._drawn.spots:
            self._draw_spot(painter, spot)

    def _draw_line(self, painter: QPainter, line: Line) -> None:
        palette = THEME.palette
        wide, tall = self._unit()
        points = [QPointF(x * wide, y * tall) for x, y in line.points]
        painter.setPen(QPen(QColor(palette.quiet), 1.3, Qt.PenStyle.DashLine if line.back else Qt.PenStyle.SolidLine))
        painter.drawPolyline(QPolygonF(points))
        if line.label:
            painter.setFont(THEME.font(px=SMALL_PX))
            painter.drawText(points[0] + QPointF(3, -3), line.label)
        if not line.tip:
            return
        tip = points[-1]
        painter.setPen(QPen(QColor(palette.quiet), 1.3))
        way = -1 if points[-1].y() < points[-2].y() else 0
        for side in (-3, 3):
            painter.drawLine(tip, tip + (QPointF(side, 5) if way else QPointF(-5, side)))

    def _draw_spot(self, painter: QPainter, spot: Spot) -> None:
        shown, palette = self._presenter.shown, THEME.palette
        assert shown is not None
        box = shown.boxes[spot.item]
        rect = self.rect_of(spot.item)
        inside = QRect(rect.left() + 5, rect.top() + 3, rect.width() - 10, rect.height() - 6)
        wide, tall = self._unit()
        if spot.head < spot.width:
            inside = QRect(inside.left(), inside.top(), round(spot.head * wide) - 10, round(tall) - 6)
        chosen = spot.item == self._presenter.chosen
        own = spot.item == shown.in_hand
        ink = palette.ink_of(shown.letter).colour if own else palette.quiet if box.off else palette.ink
        frame = inside.adjusted(-2, -1, 2, 1)
        painter.fillRect(frame, QColor(palette.raised if isinstance(spot.item, tuple) or chosen else palette.ground))
        if isinstance(spot.item, tuple) or chosen:
            style = Qt.PenStyle.DotLine if box.off else Qt.PenStyle.SolidLine
            painter.setPen(QPen(QColor(ink), 2.2 if chosen else 1.0, style))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(frame)
        if chosen and self.hasFocus():
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(frame.adjusted(-3, -1, 3, 1))
        text = inside.adjusted(3, 0, -2, 0)
        small, body = THEME.font(px=SMALL_PX), THEME.font(px=BODY_PX, bold=True)
        painter.setFont(small)
        painter.setPen(QColor(palette.quiet))
        metrics = QFontMetrics(small)
        painter.drawText(text, Qt.AlignmentFlag.AlignTop,
                         metrics.elidedText(box.name, Qt.TextElideMode.ElideRight, text.width()))
        painter.setFont(body)
        painter.setPen(QColor(palette.attention if box.bad else palette.quiet if box.off else palette.ink))
        said = f"! {box.text}" if box.bad else box.text
        painter.drawText(text.adjusted(0, metrics.height(), 0, 0), Qt.AlignmentFlag.AlignTop,
                         QFontMetrics(body).elidedText(said, Qt.TextElideMode.ElideRight, text.width()))

    # Hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drawn is None:
            return
        point = event.position().toPoint()
        under = [spot for spot in self._drawn.spots if self.rect_of(spot.item).contains(point)]
        if under:  # the innermost lies on top
            self._presenter.choose(min(under, key=lambda spot: spot.width * spot.height).item)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        presenter, key = self._presenter, Qt.Key(event.key())
        acts: dict[Qt.Key, Callable[[], object]] = {
            Qt.Key.Key_Left: lambda: presenter.move(-1) if control else presenter.step_along(-1),
            Qt.Key.Key_Right: lambda: presenter.move(1) if control else presenter.step_along(1),
            Qt.Key.Key_Delete: presenter.remove, Qt.Key.Key_Backspace: presenter.remove,
            Qt.Key.Key_Space: presenter.switch, Qt.Key.Key_Insert: self.add_wanted.emit,
            Qt.Key.Key_Return: self.set_wanted.emit, Qt.Key.Key_Enter: self.set_wanted.emit,
        }
        if key in acts and (not control or key in (Qt.Key.Key_Left, Qt.Key.Key_Right)):
            acts[key]()
        elif key == Qt.Key.Key_Escape and presenter.chosen is not None:
            presenter.choose(None)
        else:
            super().keyPressEvent(event)
