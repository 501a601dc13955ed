"""F1: the keys, and the cautions once."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from jiyuu.desktop.theme.style import STEP

KEYS = (
    ("M", "measure the filter in hand"), ("Esc", "cancel the measurement"), ("K", "keep the chosen finding"),
    ("N", "set everything neutral"), ("T", "turn the trims as advised, and read again"),
    ("Ctrl+W", "do the whole walk: every step that is open or out of date"),
    ("← →", "cutoff by a semitone; with Shift by 10 cents"),
    ("↑ ↓", "on the map: resonance by 1 %; with Shift by 0.1 %"),
    ("← →", "over the control's travel: resonance by 1 %; with Shift by 0.1 %"),
    ("+ − Home", "zoom the figure; show all"),
    ("Ctrl+1 … Ctrl+0", "the ten steps"), ("Alt+1 … Alt+6", "filters A to F"),
    ("Ctrl+Z, Ctrl+Shift+Z", "undo, redo"), ("Ctrl+T", "paper or night"), ("Ctrl++, Ctrl+−", "larger, smaller type"),
    ("B", "band of 1000 builds"), ("O", "the chosen mode alone, or all of them"),
    ("Ctrl+F", "add a filter from the circuits there are"),
    ("Ctrl+P", "measure a pair of recordings"),
    ("P", "play what is heard at the ear, or stop; always under the ceiling"),
    ("Ctrl+L", "save what it sounds like, under the ceiling for ears"),
    ("Ctrl+S", "save the figure"), ("Ctrl+Shift+C", "copy the figure"),
    ("Tab", "next control; Enter or Space acts"), ("double-click", "a control back to the filter's file"),
)
CAUTIONS = (
    "Self-oscillation and feedback can jump to full level: start low. Long tones near 3 kHz, ultrasonics and DC can "
    "harm ears and loudspeakers. Building: check rail polarity before power; mind the hot iron, fumes and charged "
    "capacitors. Mains voltage is for people licensed for it, under local codes."
)


class KeysWindow(QWidget):
    """Not modal: it may stay open beside the work."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle("Keys and cautions")
        column = QVBoxLayout(self)
        column.setContentsMargins(4 * STEP, 4 * STEP, 4 * STEP, 4 * STEP)
        rows = "".join(f"<tr><td><b>{keys}</b>&nbsp;&nbsp;</td><td>{does}</td></tr>" for keys, does in KEYS)
        table = QLabel(f"<table>{rows}</table>")
        table.setTextFormat(Qt.TextFormat.RichText)
        cautions = QLabel(CAUTIONS)
        cautions.setWordWrap(True)
        column.addWidget(table)
        column.addWidget(cautions)
