"""What is heard while it is turned: one or two filters on one source, aligned in time, under the ceiling.

Everything that an ear is given passes a `Mixer`, whose last stage is the ceiling. What can be turned without building
anything anew (cutoff, resonance, drive, trim, level) glides within some blocks; everything else is another `Voice`,
faded over to."""

from __future__ import annotations

import json
import threading
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from jiyuu.arrays import FloatArray
from jiyuu.bench.heard import (
    FULL_SCALE_V,
    HEARD_RATE_HZ,
    IMPULSE_S,
    IMPULSE_V,
    Heard,
    heard_record,
)
from jiyuu.bench.standing import Standing
from jiyuu.circuits.operating_point import operating_point
from jiyuu.signals.ceiling import CEILING_DB, LiveCeiling
from jiyuu.signals.looped import SEAM_S, seamless
from jiyuu.simulation.live import DELAY, LiveRenderer
from jiyuu.simulation.render import oversampling_for

BLOCK = 1024  # samples computed at a time
NEARER = 0.7  # of the way to where it is wanted, that a control goes in a block
THERE = 1e-4  # re the whole way: it has arrived
FADE_BLOCKS, TAIL_BLOCKS = 2, 2
SETTLED_BLOCKS = 5  # played and thrown away before a voice is heard
LOOP_S = 8.0


@dataclass(frozen=True, slots=True)
class Turned:
    """What glides: factors ahead of the filter and behind it, its cutoff and its loop gain."""

    drive: float
    cutoff_hz: float
    gain: float
    trim: float

    @classmethod
    def of(cls, standing: Standing) -> Turned:
        return cls(standing.drive, standing.standing_hz, standing.gain, standing.setup.trim)

    def towards(self, wanted: Turned) -> Turned:
        """Where it stands a block later."""
        return Turned(nearer(self.drive, wanted.drive), nearer(self.cutoff_hz, wanted.cutoff_hz),
                      nearer(self.gain, wanted.gain), nearer(self.trim, wanted.trim))


def kind_of(standing: Standing, what: Heard) -> tuple[object, ...]:
    """What makes another voice when it changes; the last of it only how finely it steps."""
    if what is Heard.MOVING:
        return (what, _all_that_does_not_glide(standing), _all_of(standing))
    if is_computed(standing, what):
        return (what, _all_of(standing), 0)
    return (what, standing.built, standing.mode, standing.setup.inputs, oversampling_for(standing.standing_hz))


def is_computed(standing: Standing, what: Heard) -> bool:
    """Whether it is played from a record: what stands beside the filter cannot be turned while it sounds."""
    return what is Heard.FILTER and bool(standing.setup.ahead or standing.setup.behind)


def _all_of(standing: Standing) -> str:
    """Everything that a computed sound follows from."""
    return json.dumps([standing.as_json(), standing.gain, standing.setup.model_dump(mode="json")], sort_keys=True)


def _all_that_does_not_glide(standing: Standing) -> str:
    told, setup = standing.as_json(), standing.setup.model_dump(mode="json")
    for name in ("cutoff_hz", "standing_hz", "drive_db", "next_limit_v"):
        del told[name]
    for name in ("drive_db", "trim_db"):
        del setup[name]
    return json.dumps([told, standing.gain, setup], sort_keys=True)


def looped_source(standing: Standing, what: Heard) -> FloatArray:
    """(n,) volts ahead of the drive, to be played over and over; silence for a whistle. Raises JiyuuError where the
    source cannot be played."""
    from jiyuu.signals.source import mixed_record

    if what is Heard.WHISTLE:
        return np.zeros(round(LOOP_S * HEARD_RATE_HZ))
    return seamless(mixed_record(standing.setup.sources(), duration_s=LOOP_S), HEARD_RATE_HZ)


class AnyVoice(Protocol):
    """What a mixer plays. kind: as kind_of tells it; match: factor that makes two equally loud; `turn` may be called
    from another thread than `block`."""

    kind: tuple[object, ...]
    what: Heard
    match: float

    @property
    def place(self) -> int:
        """Sample of the source that comes next."""

    @property
    def cutoff_hz(self) -> float:
        """Where it stands by now."""

    def turn(self, wanted: Turned) -> None:
        """What glides goes there from now on."""

    def go_to(self, place: int) -> None:
        """So that it plays in step with another."""

    def block(self) -> FloatArray:
        """(BLOCK,) re full scale."""


class Voice:
    """A filter as it stands, played on a source. `turn` may be called from another thread than `block`."""

    def __init__(self, standing: Standing, what: Heard, source_v: FloatArray, *, place: int = 0) -> None:
        self.kind, self.what = kind_of(standing, what), what
        self._source, self._place = source_v, place
        self._wanted = self._stands = Turned.of(standing)
        self._rail_v = standing.document.tolerances.rail_v
        self._late = np.zeros(DELAY)  # of a source heard by itself, so that both stay aligned
        self._renderer = None if what is Heard.SOURCE else LiveRenderer(
            standing.network, standing.mode, sample_rate_hz=HEARD_RATE_HZ,
            factor=oversampling_for(standing.standing_hz),
            start_v=operating_point(standing.network, gain=standing.gain).state_v)
        self.match = 1.0  # factor that makes two voices equally loud
        self._kick = round(IMPULSE_S * HEARD_RATE_HZ) if what is Heard.WHISTLE else 0
        for _ in range(SETTLED_BLOCKS):
            self.block()

    @property
    def place(self) -> int:
        """Sample of the source that comes next."""
        return self._place

    @property
    def cutoff_hz(self) -> float:
        """Where it stands by now."""
        return self._stands.cutoff_hz

    def turn(self, wanted: Turned) -> None:
        self._wanted = wanted

    def go_to(self, place: int) -> None:
        """So that it plays in step with another."""
        self._place = place

    def block(self) -> FloatArray:
        """(BLOCK,) re full scale."""
        stands, then = self._stands, self._stands.towards(self._wanted)
        self._stands = then
        way = np.linspace(0.0, 1.0, BLOCK, endpoint=False)
        source = self._source[(self._place + np.arange(BLOCK)) % self._source.size]
        self._place = (self._place + BLOCK) % self._source.size
        played = source * (stands.drive + (then.drive - stands.drive) * way)
        if self._kick:
            played[: self._kick] += IMPULSE_V
            self._kick = max(self._kick - BLOCK, 0)
        if self._renderer is None:
            whole = np.concatenate([self._late, played])
            self._late = whole[BLOCK:]
            return np.asarray(whole[:BLOCK] / FULL_SCALE_V)
        output_v = self._renderer.push(played, cutoff_hz=(stands.cutoff_hz, then.cutoff_hz),
                                       gain=(stands.gain, then.gain))
        output_v = np.clip(np.nan_to_num(output_v, nan=0.0), -self._rail_v, self._rail_v)
        return np.asarray(output_v * (stands.trim + (then.trim - stands.trim) * way) / FULL_SCALE_V)


def nearer(stands: float, wanted: float) -> float:
    """Some of the way, or all of it where next to nothing is left."""
    if abs(wanted - stands) <= THERE * max(abs(wanted), abs(stands), 1e-12):
        return wanted
    return stands + NEARER * (wanted - stands)


@dataclass(slots=True)
class _Sounding:
    """A voice with its share of what is heard: where it stands and where it goes."""

    voice: AnyVoice
    share: float = 0.0
    goal: float = 1.0
    kept: bool = True
    match: float = 1.0


class Looped:
    """A record (n,) re full scale, played over and over; nothing of it is turned, another one is faded over to."""

    def __init__(self, record: FloatArray, kind: tuple[object, ...] = (), what: Heard = Heard.FILTER) -> None:
        self.kind, self.what = kind, what
        self._record = record
        self._place, self.match, self._cutoff_hz = 0, 1.0, 0.0

    @property
    def place(self) -> int:
        """Sample of the record that comes next."""
        return self._place

    @property
    def cutoff_hz(self) -> float:
        """Of the filter it was made of."""
        return self._cutoff_hz

    def turn(self, wanted: Turned) -> None:
        """Nothing glides here."""

    def go_to(self, place: int) -> None:
        """So that it plays in step with another."""
        self._place = place % self._record.size

    def block(self) -> FloatArray:
        """(BLOCK,) re full scale."""
        found = self._record[(self._place + np.arange(BLOCK)) % self._record.size]
        self._place = (self._place + BLOCK) % self._record.size
        return np.asarray(found)


class BehindIt(Looped):
    """The filter with a comb or the like behind it, computed for a round of its source."""

    def __init__(self, standing: Standing) -> None:
        made = seamless(heard_record(standing, Heard.FILTER, duration_s=LOOP_S + SEAM_S), HEARD_RATE_HZ)
        super().__init__(made, kind_of(standing, Heard.FILTER), Heard.FILTER)
        self._cutoff_hz = standing.standing_hz


class Mixer:
    """Voices, level and ceiling. `fill` is called by the sound output's thread, everything else by another."""

    def __init__(self, *, ceiling_db: float = CEILING_DB) -> None:
        self._lock = threading.Lock()
        self._ceiling_db, self._ceiling = ceiling_db, LiveCeiling(HEARD_RATE_HZ, ceiling_db=ceiling_db)
        self._voices: list[_Sounding] = []
        self._heard: dict[str, _Sounding] = {}
        self._level = self._level_goal = 0.0
        self._ready = np.zeros(0)
        self._quiet_blocks = 0

    @property
    def sounding(self) -> bool:
        """Something is still to be heard, if only the end of a fade."""
        return bool(self._voices) or self._quiet_blocks > 0

    def set_level(self, level_db: float) -> None:
        self._level_goal = 10 ** (level_db / 20)

    def voice(self, name: str) -> AnyVoice | None:
        """The one that is played under a name."""
        one = self._heard.get(name)
        return None if one is None else one.voice

    def play(self, name: str, voice: AnyVoice, *, heard: bool = True) -> None:
        """Under a name, in place of the one before, in step with what sounds; not heard: it runs along in silence."""
        with self._lock:
            before = self._heard.get(name)
            running = next((one.voice for one in self._voices if one.kept), None)
            if running is not None:
                voice.go_to(running.place)
            made = _Sounding(voice, goal=1.0 if heard else 0.0, match=voice.match)
            if before is not None:
                made.goal = before.goal
                before.goal, before.kept = 0.0, False
            self._heard[name] = made
            self._voices.append(made)

    def listen_to(self, name: str) -> None:
        """That voice and no other."""
        with self._lock:
            for other, one in self._heard.items():
                one.goal = 1.0 if other == name else 0.0

    def drop(self, name: str) -> None:
        """Fades out and is gone."""
        with self._lock:
            one = self._heard.pop(name, None)
            if one is not None:
                one.goal, one.kept = 0.0, False

    def fade_out(self) -> None:
        for name in list(self._heard):
            self.drop(name)

    def fill(self, count: int) -> FloatArray:
        """(count,) re full scale."""
        while self._ready.size < count:
            self._ready = np.concatenate([self._ready, self._block()])
        out, self._ready = self._ready[:count], self._ready[count:]
        return out

    def _block(self) -> FloatArray:
        with self._lock:
            voices = list(self._voices)
        total = np.zeros(BLOCK)
        way = (np.arange(BLOCK) + 1) / BLOCK
        for one in voices:
            sound = one.voice.block()
            to = one.share + float(np.clip(one.goal - one.share, -1 / FADE_BLOCKS, 1 / FADE_BLOCKS))
            match = nearer(one.match, one.voice.match)
            if one.share or to:
                # Raised cosine: what fades in and what fades out add to one.
                shares = np.sin(0.5 * np.pi * (one.share + (to - one.share) * way)) ** 2
                total += sound * shares * (one.match + (match - one.match) * way)
            one.share, one.match = to, match
        with self._lock:
            self._voices = [one for one in self._voices if one.kept or one.share > 0]
            left = self._quiet_blocks
            self._quiet_blocks = TAIL_BLOCKS if self._voices else max(left - 1, 0)
            over = not self._voices
        if over and left <= 1:
            # The last of the filters' own memory is faded out; after it nothing is handed out but silence.
            tail = self._ceiling.push(total) * (1 - way) if left else total
            self._ceiling = LiveCeiling(HEARD_RATE_HZ, ceiling_db=self._ceiling_db)
            return tail
        then = nearer(self._level, self._level_goal)
        total *= self._level + (then - self._level) * way
        self._level = then
        return self._ceiling.push(total)
