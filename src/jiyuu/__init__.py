"""Jiyuu: a bench for voltage-controlled filters."""

import os

__version__ = "0.1.0"

# Matrices here have tens of rows, and two measurements run side by side: more threads would only wait for each other.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
