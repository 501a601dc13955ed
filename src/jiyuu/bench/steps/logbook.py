"""Logbook: what was kept, with the settings that gave it."""

from __future__ import annotations

from jiyuu.bench.step import Unmeasured


class LogbookStep(Unmeasured):
    """Nothing is measured here."""

    number, key, name = 10, "logbook", "Logbook"
    purpose = "findings kept, notes"


STEP = LogbookStep()
