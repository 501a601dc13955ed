"""Every mode's resonance map, small, side by side: seen at a glance, chosen by a click or with the arrow keys."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QEvent, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetrics, QHelpEvent, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip

from jiyuu.desktop.figures.painted import PaintedFigure
from jiyuu.desktop.figures.resonance_map_figure import TONES
from jiyuu.desktop.theme.style import SMALL_PX, STEP, THEME
from jiyuu.prediction.resonance import ResonanceMap
from jiyuu.quantities import shown_hz, signed

MAP_PX = 44
SHORT = {"lowpass": "LP", "highpass": "HP", "bandpass": "BP", "all-pass": "AP", "notch": "N"}


class ModeStrip(PaintedFigure):
    """One box a mode, low frequencies left, the control's end on top, as on the large map."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("Resonance of every mode")
        self._map: ResonanceMap | None = None
        self._mode, self._ink = "", THEME.palette.ink
        self._images: list[QImage] = []
        THEME.changed.connect(self._settle)
        self._settle()

    def _settle(self) -> None:
        self.setFixedHeight(self.sizeHint().height())

    def sizeHint(self) -> QSize:
        return QSize(400, MAP_PX + QFontMetrics(THEME.font(px=SMALL_PX)).height() + STEP)

    def show_modes(self, found: ResonanceMap, mode: str, ink: str) -> None:
        """Coarse maps of all modes; the one in force is framed."""
        self._map, self._mode, self._ink = found, mode, ink
        table = TONES.colours(ink)
        self._images = []
        for level in found.level_db:
            pixels = table[TONES.of(level)[::-1]]
            height, width = pixels.shape[:2]
            image = QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
            self._images.append(image.copy())  # its own bytes, not those of an array that goes
        self.setVisible(len(found.modes) > 1)
        self.describe()
        self.update()

    def choose(self, mode: str) -> None:
        """Another mode is in force; the maps stay."""
        if mode != self._mode:
            self._mode = mode
            self.describe()

    def restyle(self, ink: str) -> None:
        """The same maps in the theme's colours."""
        if self._map is not None:
            self.show_modes(self._map, self._mode, ink)

    def words(self) -> tuple[str, ...]:
        found = self._map
        if found is None:
            return ()
        lines = []
        for mode, peak, level in zip(found.modes, found.peak_hz, found.level_db, strict=True):
            there = np.flatnonzero(np.isfinite(peak))
            where = f"peak at {shown_hz(float(peak[there[-1]]))} with full resonance" if there.size else "no peak"
            lines.append(f"{mode}: {where}, {signed(float(level[-1].max() - level[0].max()), 0)} dB")
        return tuple(lines)

    def rows(self) -> list[tuple[object, ...]]:
        found = self._map
        head = ("mode", "peak_hz_at_the_end", "highest_db_at_the_end", "highest_db_without_resonance")
        if found is None:
            return [head]
        return [head, *(
            (mode, "" if np.isnan(peak[-1]) else float(peak[-1]), float(level[-1].max()), float(level[0].max()))
            for mode, peak, level in zip(found.modes, found.peak_hz, found.level_db, strict=True)
        )]

    def boxes(self) -> list[QRect]:
        """Where each mode stands."""
        count = len(self._images)
        each = self.width() / max(count, 1)
        return [QRect(round(i * each) + 1, 1, round(each) - 2 * STEP, MAP_PX) for i in range(count)]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        found = self._map
        if found is None:
            return
        painter, palette = QPainter(self), THEME.palette
        font = THEME.font(px=SMALL_PX)
        height = QFontMetrics(font).height()
        for mode, image, box in zip(found.modes, self._images, self.boxes(), strict=True):
            painter.drawImage(box, image)
            own = mode == self._mode
            if found.onset_percent is not None:
                onset = round(box.bottom() - found.onset_percent / 100 * box.height())
                painter.setPen(QPen(QColor(palette.attention), 1))
                painter.drawLine(box.left(), onset, box.right(), onset)
            painter.setPen(QPen(QColor(palette.ink if own else palette.rule), 2 if own else 1))
            painter.drawRect(box)
            painter.setFont(THEME.font(px=SMALL_PX, bold=own))
            painter.setPen(QColor(palette.ink if own else palette.quiet))
            painter.drawText(QRect(box.left(), box.bottom() + 1, box.width() + STEP, height),
                             Qt.AlignmentFlag.AlignLeft, _fitting(mode, QFontMetrics(font), box.width() + STEP))
        if self.hasFocus():
            painter.setPen(QPen(QColor(palette.ink), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            under = [text for text, box in zip(self.words(), self.boxes(), strict=True)
                     if box.left() <= event.pos().x() <= box.right()]
            QToolTip.showText(event.globalPos(), under[0] if under else "")
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._map is None or event.button() != Qt.MouseButton.LeftButton:
            return
        for mode, box in zip(self._map.modes, self.boxes(), strict=True):
            if box.left() <= event.position().x() <= box.right():
                self.chosen.emit(mode)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if self._map is None or event.key() not in moves:
            super().keyPressEvent(event)
            return
        place = self._map.modes.index(self._mode) + moves[Qt.Key(event.key())]
        if 0 <= place < len(self._map.modes):
            self.chosen.emit(self._map.modes[place])


def _fitting(mode: str, metrics: QFontMetrics, width: int) -> str:
    """The mode's name, shortened where the box is narrow."""
    if metrics.horizontalAdvance(mode) <= width:
        return mode
    for name, short in SHORT.items():
        mode = mode.replace(f"{name}-", f"{short} ").replace(name, short)
    return metrics.elidedText(mode, Qt.TextElideMode.ElideRight, width)
