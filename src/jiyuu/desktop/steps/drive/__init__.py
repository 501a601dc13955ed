"""The Drive step."""

from jiyuu.desktop.steps.drive.view import DriveView as VIEW

__all__ = ["VIEW"]
