"""Shared by all tests: an offscreen window system, settings that do not touch the person's own."""

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # a worker a core: more threads would be in the way

from hypothesis import settings

# How long it takes depends on the machine; the same draws every time, so that a run can be compared with the last.
settings.register_profile("jiyuu", deadline=None, derandomize=True)
settings.register_profile("wander", deadline=None)  # new draws: pytest --hypothesis-profile=wander
settings.load_profile("jiyuu")
