"""The signal path: source → filter → output → next module → ear, with the volts at every joint."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.circuits.linear import complex_gain, growth_rate
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME
from jiyuu.quantities import signed

NEXT_MODULE_V = 5.0
_SCAN_HZ = np.geomspace(20, 20_000, 241)


class SignalPathView(QWidget):
    """What a sine of the source's level comes to at the frequency where the filter passes most, by small signal."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._joints: list[tuple[str, str, bool]] = []
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

    def refresh(self) -> None:
        shelved = self._session.in_hand
        if shelved is None:
            self._joints = []
            self.update()
            return
        settings, document = self._session.settings(), self._session.document()
        source_v = settings["source_v"]
        gain = document.gain_at(settings["resonance_percent"])
        network = document.network()
        oscillates = growth_rate(network, cutoff_hz=settings["cutoff_hz"], gain=gain) >= 0
        gains = np.abs(complex_gain(network, _SCAN_HZ, cutoff_hz=settings["cutoff_hz"], gain=gain,
                                    modes=[settings["mode"]])[0])
        output_v = source_v * float(gains.max())
        rail_v = document.tolerances.rail_v
        reached_v = min(output_v, rail_v)
        over = reached_v > NEXT_MODULE_V
        trim_db = 20 * np.log10(NEXT_MODULE_V / reached_v)
        filter_text = "oscillates" if oscillates else f"{signed(float(20 * np.log10(gains.max())))} dB at most"
        self._joints = [
            ("source", f"{source_v:.2f} V peak", False),
            ("filter", filter_text, oscillates),
            ("output", f"{reached_v:.2f} V" + (" (at the rail)" if output_v > rail_v else ""), output_v > rail_v),
            ("next module ±5 V", f"overload: trim {signed(trim_db)} dB" if over else f"{trim_db:.1f} dB left", over),
            ("ear", "listening is not built yet", False),
        ]
        self.setAccessibleDescription("; ".join(f"{name}: {text}" for name, text, _ in self._joints))
        self.setToolTip(
            "Small-signal estimate for a sine at the frequency the filter passes most; saturation makes it less."
        )
        self.update()

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
            painter.drawText(box, Qt.AlignmentFlag.AlignTop, name)
            painter.setFont(body)
            painter.setPen(QColor(palette.attention if bad else palette.ink))
            marked = f"! {text}" if bad else text
            shown = QFontMetrics(body).elidedText(marked, Qt.TextElideMode.ElideRight, box.width())
            painter.drawText(box.adjusted(0, QFontMetrics(small).height(), 0, 0), Qt.AlignmentFlag.AlignTop, shown)
            if i:
                painter.setFont(body)
                painter.setPen(QColor(palette.quiet))
                painter.drawText(QRect(round(i * each) - 2 * STEP, 0, 6 * STEP, self.height()),
                                 Qt.AlignmentFlag.AlignCenter, "→")
