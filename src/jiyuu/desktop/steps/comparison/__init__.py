"""The Comparison step."""

from jiyuu.desktop.steps.comparison.view import ComparisonView as VIEW

__all__ = ["VIEW"]
