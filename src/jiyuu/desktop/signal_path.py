"""The signal path: source → filter → output → next module, with the volts at every joint; the ear has a panel."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.arrays import ComplexArray
from jiyuu.bench.setup import SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME
from jiyuu.errors import SignalError
from jiyuu.prediction.response import GRID_HZ
from jiyuu.quantities import shown_hz, signed
from jiyuu.signals.source import RECORD_RATE_HZ, mixed_record
from jiyuu.simulation.source_through import SourceThrough

RECORD_S = 0.5


class SignalPathView(QWidget):
    """What the source as set up comes to at every joint, by small signal."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._joints: list[tuple[str, str, bool]] = []
        self._inputs: tuple[SourceSetting, ...] = ()
        self._through: SourceThrough | None = None
        self._source_v = 0.0
        self.setAccessibleName("Signal path")
        for signal in (session.filter_changed, session.settings_changed):
            signal.connect(self.refresh)
        THEME.changed.connect(self._settle)
        self._settle()
        self.refresh()

    def _settle(self) -> None:
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        height = QFontMetrics(THEME.font(px=BODY_PX)).height() + QFontMetrics(THEME.font(px=SMALL_PX)).height()
        return QSize(600, height + 2 * STEP)

    def minimumSizeHint(self) -> QSize:
        return QSize(80 * STEP, self.sizeHint().height())

    def refresh(self) -> None:
        """The joints anew, for the filter in hand."""
        if self._session.in_hand is None:
            self._joints = []
            self.update()
            return
        standing = self._session.standing()
        setup, rail_v = standing.setup, standing.document.tolerances.rail_v
        gains = complex_gain(standing.network, GRID_HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                             modes=[standing.mode])[0]
        source_v, output_v = self._levels(standing, gains)
        driven_v, reached_v = source_v * standing.drive, min(output_v, rail_v)
        over = reached_v > setup.output_limit_v
        trim_db = 20 * np.log10(setup.output_limit_v / max(reached_v, 1e-9))
        trimmed = f", {reached_v * setup.trim:.2f} V behind {signed(setup.trim_db)} dB" if setup.trim_db else ""
        highest_db = float(level_db(gains).max())
        filter_text = "oscillates" if standing.self_oscillates else f"{signed(highest_db)} dB at most"
        self._joints = [
            (f"source, {setup.source_names.removeprefix('the ')}", f"{source_v:.2f} V peak", False),
            (f"level {signed(setup.drive_db)} dB", f"{driven_v:.2f} V in", driven_v > rail_v),
            (f"filter at {shown_hz(standing.standing_hz)}", filter_text, standing.self_oscillates),
            ("output, small signal", f"{reached_v:.2f} V" + (" (at the rail)" if output_v > rail_v else "") + trimmed,
             output_v > rail_v),
            (f"next module ±{setup.next_limit_v:g} V",
             f"overload: trim {signed(trim_db)} dB" if over else f"{trim_db:.1f} dB left", over),
        ]
        self.setAccessibleDescription("; ".join(f"{name}: {text}" for name, text, _ in self._joints))
        self.setToolTip(
            "Small-signal estimate for the source as set up, half a second of it; saturation makes it less."
        )
        self.update()

    def _levels(self, standing: Standing, gains: ComplexArray) -> tuple[float, float]:
        """(peak volts of the source, of the output); the source is made anew only when it was changed."""
        if self._inputs != standing.setup.inputs:
            try:
                record = mixed_record(standing.setup.sources(), duration_s=RECORD_S)
            except SignalError:  # a file that has gone: the Setup step says so
                record = np.zeros(round(RECORD_S * RECORD_RATE_HZ))
            self._through, self._inputs = SourceThrough(record, RECORD_RATE_HZ), standing.setup.inputs
            self._source_v = float(np.abs(record).max())
        assert self._through is not None
        return self._source_v, standing.drive * self._through.peak_v(GRID_HZ, gains)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = THEME.palette
        painter.setPen(QPen(QColor(palette.strong_rule), 1))
        painter.drawLine(0, 0, self.width(), 0)
        if not self._joints:
            return
        each = self.width() / len(self._joints)
        small, body = THEME.font(px=SMALL_PX), THEME.font(px=BODY_PX, bold=True)
        for i, (name, text, bad) in enumerate(self._joints):
            box = QRect(round(i * each) + 4 * STEP, STEP, round(each) - 5 * STEP, self.height() - STEP)
            painter.setFont(small)
            painter.setPen(QColor(palette.quiet))
            painter.drawText(box, Qt.AlignmentFlag.AlignTop,
                             QFontMetrics(small).elidedText(name, Qt.TextElideMode.ElideRight, box.width()))
            painter.setFont(body)
            painter.setPen(QColor(palette.attention if bad else palette.ink))
            marked = f"! {text}" if bad else text
            shown = QFontMetrics(body).elidedText(marked, Qt.TextElideMode.ElideRight, box.width())
            painter.drawText(box.adjusted(0, QFontMetrics(small).height(), 0, 0), Qt.AlignmentFlag.AlignTop, shown)
            for joint in {i, i + 1} - {0}:  # the last leads on to the ear
                painter.setFont(body)
                painter.setPen(QColor(palette.quiet))
                place = round(joint * each) - (8 if joint == len(self._joints) else 2) * STEP
                painter.drawText(QRect(place, 0, 6 * STEP, self.height()),
                                 Qt.AlignmentFlag.AlignCenter, "→")
