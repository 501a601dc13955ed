"""The Self-oscillation step."""

from jiyuu.desktop.steps.self_oscillation.view import OscillationView as VIEW

__all__ = ["VIEW"]
