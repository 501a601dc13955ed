"""The Logbook step."""

from jiyuu.desktop.steps.logbook.view import LogbookView as VIEW

__all__ = ["VIEW"]
