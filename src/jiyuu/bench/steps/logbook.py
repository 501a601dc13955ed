"""Logbook: what was done and found, by day and filter, with the settings that gave it."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class LogbookStep(Unmeasured):
    """Nothing is measured here."""

    number, key, name = 10, "logbook", "Logbook"
    purpose = "what was found and when, as it was then, beside today"
    hears_all = True


STEP = LogbookStep()
