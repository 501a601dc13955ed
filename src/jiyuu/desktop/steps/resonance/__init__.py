"""The Resonance step."""

from jiyuu.desktop.steps.resonance.view import ResonanceView as VIEW

__all__ = ["VIEW"]
