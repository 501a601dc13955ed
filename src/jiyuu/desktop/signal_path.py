"""The signal path: source → filter → output → next module, with the volts at every joint; the ear has a panel."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from jiyuu.book.heard import standing_hz
from jiyuu.book.setup import Setup, SourceSetting
from jiyuu.circuits.linear import ComplexArray, complex_gain, growth_rate
from jiyuu.desktop.session import Session
from jiyuu.desktop.theme.style import BODY_PX, SMALL_PX, STEP, THEME
from jiyuu.errors import SignalError
from jiyuu.quantities import shown_hz, signed
from jiyuu.signals.source import RECORD_RATE_HZ, mixed_record
from jiyuu.simulation.source_through import SourceThrough

_SCAN_HZ = np.geomspace(20, 20_000, 481)
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

    def refresh(self) -> None:
        shelved = self._session.in_hand
        if shelved is None:
            self._joints = []
            self.update()
            return
        settings, document, setup = self._session.settings(), self._session.document(), self._session.setup()
        gain = document.gain_at(settings["resonance_percent"])
        network = document.network()
        stands_hz = standing_hz(setup, settings["cutoff_hz"])
        oscillates = growth_rate(network, cutoff_hz=stands_hz, gain=gain) >= 0
        gains = complex_gain(network, _SCAN_HZ, cutoff_hz=stands_hz, gain=gain, modes=[settings["mode"]])[0]
        drive = 10 ** (setup.drive_db / 20)
        source_v, output_v = self._levels(setup, gains, drive)
        rail_v, limit_v = document.tolerances.rail_v, setup.next_limit_v
        reached_v = min(output_v, rail_v)
        over = reached_v > limit_v
        trim_db = 20 * np.log10(limit_v / max(reached_v, 1e-9))
        highest_db = float(20 * np.log10(np.abs(gains).max()))
        filter_text = "oscillates" if oscillates else f"{signed(highest_db)} dB at most"
        name = " + ".join(source.kind.value for source in setup.sources())
        output_text = f"{reached_v:.2f} V" + (" (at the rail)" if output_v > rail_v else "")
        next_text = f"overload: trim {signed(trim_db)} dB" if over else f"{trim_db:.1f} dB left"
        self._joints = [
            (f"source, {name}", f"{source_v:.2f} V peak", False),
            (f"level {signed(setup.drive_db)} dB", f"{source_v * drive:.2f} V in", source_v * drive > rail_v),
            (f"filter at {shown_hz(stands_hz)}", filter_text, oscillates),
            ("output, small signal", output_text, output_v > rail_v),
            (f"next module ±{limit_v:g} V", next_text, over),
        ]
        self.setAccessibleDescription("; ".join(f"{name}: {text}" for name, text, _ in self._joints))
        self.setToolTip(
            "Small-signal estimate for the source as set up, half a second of it; saturation makes it less."
        )
        self.update()

    def _levels(self, setup: Setup, gains: ComplexArray, drive: float) -> tuple[float, float]:
        """(peak volts of the source, of the output); the source is made anew only when it was changed."""
        if self._inputs != setup.inputs:
            try:
                record = mixed_record(setup.sources(), duration_s=RECORD_S)
            except SignalError:  # a file that has gone: the Setup step says so
                record = np.zeros(round(RECORD_S * RECORD_RATE_HZ))
            self._through, self._inputs = SourceThrough(record, RECORD_RATE_HZ), setup.inputs
            self._source_v = float(np.abs(record).max())
        assert self._through is not None
        return self._source_v, drive * self._through.peak_v(_SCAN_HZ, gains)

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
            for joint in {i, i + 1} - {0}:  # the last leads on to the ear
                painter.setFont(body)
                painter.setPen(QColor(palette.quiet))
                place = round(joint * each) - (8 if joint == len(self._joints) else 2) * STEP
                painter.drawText(QRect(place, 0, 6 * STEP, self.height()),
                                 Qt.AlignmentFlag.AlignCenter, "→")
