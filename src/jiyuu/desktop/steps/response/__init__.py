"""The Response step."""

from jiyuu.desktop.steps.response.view import ResponseView as VIEW

__all__ = ["VIEW"]
