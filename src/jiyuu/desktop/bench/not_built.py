"""A step that is not there yet, saying so plainly."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from jiyuu.desktop.theme.style import STEP

_PURPOSE = {
    "Self-oscillation": "onset, purity, level and tuning of the whistle",
    "Tracking": "volts per octave, usable span and trim advice",
    "Drive": "clean to saturated, and what that does to resonance and loudness",
    "Modulation": "envelopes, steps, pings and audio-rate modulation of the cutoff",
    "Combination": "two filters in series, parallel or stereo; vowels and banks",
    "Comparison": "side by side at equal loudness, with the judgement in numbers",
}


class NotBuiltView:
    """`figures` says what the step will be for; there is nothing to set."""

    def __init__(self, step: str) -> None:
        self.figures = QWidget()
        layout = QVBoxLayout(self.figures)
        layout.setContentsMargins(8 * STEP, 8 * STEP, 8 * STEP, 8 * STEP)
        heading = QLabel(f"{step}: not built yet")
        heading.setProperty("role", "heading")
        text = QLabel(f"It will be for this: {_PURPOSE[step]}.\nSetup, Response, Resonance and Logbook work today.")
        text.setWordWrap(True)
        layout.addWidget(heading)
        layout.addWidget(text)
        layout.addStretch(1)
        layout.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.side = QWidget()

    def restyle(self) -> None:
        """Nothing here has colours of its own."""
