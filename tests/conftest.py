"""Shared by all tests: an offscreen window system, settings that do not touch the person's own."""

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
