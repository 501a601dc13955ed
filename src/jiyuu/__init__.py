"""Jiyuu: a bench for voltage-controlled filters."""

__version__ = "0.1.0"
