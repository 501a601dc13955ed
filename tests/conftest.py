"""Shared by all tests: an offscreen window system, settings that do not touch the person's own."""

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # a worker a core: more threads would be in the way

from hypothesis import settings

settings.register_profile("jiyuu", deadline=None)  # how long it takes depends on the machine
settings.load_profile("jiyuu")
