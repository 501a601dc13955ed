"""The Modulation step."""

from jiyuu.desktop.steps.modulation.view import ModulationView as VIEW

__all__ = ["VIEW"]
