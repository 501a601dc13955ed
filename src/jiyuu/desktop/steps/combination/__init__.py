"""The Combination step."""

from jiyuu.desktop.steps.combination.view import CombinationView as VIEW

__all__ = ["VIEW"]
