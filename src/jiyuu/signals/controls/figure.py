"""A figure of notes: pitch, gate, accent, velocity and slide as they are played."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.signals.controls.gates import Gates
from jiyuu.signals.controls.segments import Segments
from jiyuu.signals.controls.stepped import Direction, order


@dataclass(frozen=True, slots=True)
class Note:
    """semitones over the root; gate: share of the step; velocity 0 to 1."""

    semitones: float = 0.0
    gate: float = 0.7
    accent: bool = False
    slide: bool = False
    tie: bool = False
    rest: bool = False
    velocity: float = 1.0


def swung_s(n: int, step_s: float, swing: float) -> float:
    """When step n begins."""
    return (n + swing * (n % 2)) * step_s


def step_at(time_s: float, step_s: float, swing: float) -> int:
    """Which step sounds at a time."""
    pair = int(time_s // (2 * step_s))
    return 2 * pair + int(time_s - 2 * pair * step_s >= (1 + swing) * step_s)


@dataclass(frozen=True, slots=True)
class Figure:
    """Notes of step_s each. A step before a slide or a tie holds its gate to its end; a slide goes within slide_s from
    its step's start; a tie keeps the gate for its own share and triggers nothing; ties and rests keep pitch, accent and
    velocity. swing: share of a step by which every second one comes late. Without repeat everything stands after the
    last step, gate 0."""

    notes: tuple[Note, ...]
    step_s: float = 0.18
    slide_s: float = 0.06
    direction: Direction = "forward"
    repeat: bool = True
    seed: int = 0
    swing: float = 0.0

    def played(self, until_s: float) -> Played:
        """Everything up to until_s, and a step more."""
        steps = int(np.floor(until_s / self.step_s)) + 2
        if not self.repeat:
            # A pendulum is through when it is back where it began; all others with their last note.
            there_and_back = self.direction == "pendulum" and len(self.notes) > 1
            steps = min(steps, 2 * len(self.notes) - 2 if there_and_back else len(self.notes))
        notes = [self.notes[i] for i in order(len(self.notes), steps, self.direction, self.seed)]
        following = [*notes[1:], self.notes[order(len(self.notes), steps + 1, self.direction, self.seed)[-1]]
                     if self.repeat else Note(rest=True)]
        pitch, accent, velocity, slide, gate = (Segments() for _ in range(5))
        rises: list[float] = []
        falls: list[float] = []
        slides: list[bool] = []
        octaves, sounding = 0.0, False
        for n, (note, then) in enumerate(zip(notes, following, strict=True)):
            start = swung_s(n, self.step_s, self.swing)
            own_s = swung_s(n + 1, self.step_s, self.swing) - start
            whole = not note.rest and (then.slide or then.tie) and not then.rest
            ends = start + (own_s if whole else note.gate * own_s)
            slide.add(start, float(note.slide and not note.rest and not note.tie))
            if note.rest:
                gate.add(start, 0.0)
                sounding = False
                continue
            if note.tie:
                if sounding:
                    falls[-1] = ends
                    gate.add(start, 1.0)
                    if not whole:
                        gate.add(ends, 0.0)
                    sounding = whole
                else:
                    gate.add(start, 0.0)
                continue
            goal = note.semitones / 12
            if note.slide and self.slide_s > 0 and n:
                lasts = min(self.slide_s, own_s)
                pitch.add(start, octaves, slope=(goal - octaves) / self.slide_s)
                pitch.add(start + lasts, octaves + (goal - octaves) * lasts / self.slide_s)
                goal = octaves + (goal - octaves) * lasts / self.slide_s
            else:
                pitch.add(start, goal)
            octaves = goal
            accent.add(start, float(note.accent))
            velocity.add(start, note.velocity)
            gate.add(start, 1.0)
            rises.append(start)
            slides.append(note.slide and sounding)
            falls.append(ends)
            sounding = whole
            if not whole:
                gate.add(ends, 0.0)
        if not self.repeat:
            ends = swung_s(steps, self.step_s, self.swing)
            gate.add(ends, 0.0)
            slide.add(ends, 0.0)
        return Played(pitch, gate, accent, velocity, slide,
                      Gates(np.array(rises), np.array(falls), np.array(slides, dtype=bool)))


@dataclass(frozen=True, slots=True, eq=False)
class Played:
    """pitch in octaves over the root; gate, accent and slide 0 or 1; gates: the notes, for what they trigger."""

    pitch: Segments
    gate: Segments
    accent: Segments
    velocity: Segments
    slide: Segments
    gates: Gates

    def at(self, what: str, times_s: FloatArray) -> FloatArray:
        """'pitch', 'gate', 'accent', 'velocity' or 'slide'."""
        found: Segments = getattr(self, what)
        return found.at(times_s)
