"""The Setup step."""

from jiyuu.desktop.steps.setup.view import SetupView as VIEW

__all__ = ["VIEW"]
