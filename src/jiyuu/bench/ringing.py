"""How the path of the filter in hand rings on behind its sources: softly, as they are set up, and louder."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import equally_loud
from jiyuu.bench.patched import filled_path, patch_of
from jiyuu.bench.standing import Standing
from jiyuu.errors import CircuitError, SignalError
from jiyuu.measurement.finding import Finding
from jiyuu.patch.playing import play_patch, sources_record
from jiyuu.prediction.driven_ring import NOTE_S, RATE_HZ, note_of, ring_findings, ring_ladder, rings
from jiyuu.progress import Progress

LEVELS_DB = (-40.0, 0.0, 20.0)  # re the sources as they are set up
HEARD_S = 2.0


@dataclass(frozen=True, slots=True, eq=False)
class Ringing:
    """findings: of every level but the softest; sounds: the softest and the loudest note with what is left of it, (n,)
    re full scale, equally loud."""

    findings: tuple[Finding, ...]
    sounds: tuple[FloatArray, ...]


def can_ring(standing: Standing) -> bool:
    """Whether its path holds what goes on after a note."""
    return rings(filled_path(standing))


def ringing_steps(standing: Standing) -> Iterator[Progress | Ringing]:
    """Raises CircuitError where nothing in the path rings or the sources are a recording, SignalError where they are
    silent or the path runs away."""
    if not can_ring(standing):
        raise CircuitError("Nothing in the path rings on: put a comb, a bank or an all-pass chain into it (Stage).")
    patch = patch_of(standing, "ringing")
    note = sources_record(patch, NOTE_S, RATE_HZ)
    peak_v = float(np.abs(note).max())
    if not peak_v:
        raise SignalError("The source is silent; give it a level (Setup).")
    levels_v, ladder = [peak_v * 10 ** (db / 20) for db in LEVELS_DB], []
    for rung in ring_ladder(patch, note, levels_v):
        ladder.append(rung)
        yield Progress(f"Driven by {rung.input_peak_v:.3g} V", len(ladder) / (len(levels_v) + 1))
    struck = np.concatenate([note_of(note) / peak_v, np.zeros(round((HEARD_S - NOTE_S) * RATE_HZ))])
    sounds = [play_patch(patch, level_v * struck[np.newaxis], RATE_HZ, checked=False).mean(axis=0)
              for level_v in (levels_v[0], levels_v[-1])]
    yield Ringing(tuple(ring_findings(ladder)), tuple(equally_loud(sounds)))
