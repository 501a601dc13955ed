"""The Tracking step."""

from jiyuu.desktop.steps.tracking.view import TrackingView as VIEW

__all__ = ["VIEW"]
