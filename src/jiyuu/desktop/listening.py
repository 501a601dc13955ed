"""Listening to the filter in hand: played on the machine's output while it is turned, under the ceiling; beside another
one at equal loudness."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from jiyuu.bench.heard import HEARD_RATE_HZ, WARNING, Heard, heard_record
from jiyuu.bench.live import (
    AnyVoice,
    BehindIt,
    Mixer,
    Turned,
    Voice,
    is_computed,
    kind_of,
    looped_source,
)
from jiyuu.bench.standing import Standing
from jiyuu.desktop.jobs import Jobs
from jiyuu.desktop.measuring import EMPTY_SHELF
from jiyuu.desktop.session import Session
from jiyuu.desktop.sound_file import LEVEL_DB, SOUND_S
from jiyuu.errors import JiyuuError, SignalError
from jiyuu.rig.sound_output import DeviceOutput, SoundingOutput, SoundOutput
from jiyuu.signals.ceiling import heard_band

QUIETEST_DB = -60.0
FOLLOW_MS, LOOK_MS, LAST_MS, MATCH_MS = 60, 50, 150, 400
MATCHED_S = 2.0
HIGHEST_DRAGGED_HZ = 10_000.0  # with the steps of a voice that was made for less
NOW, OTHER = "now", "other"


@dataclass(frozen=True, slots=True)
class Marked:
    """What the filter in hand is compared with by ear."""

    letter: str
    standing: Standing


def _voice(standing: Standing, what: Heard, of: Standing | None = None, near: int = 0) -> AnyVoice:
    """of: whose source is played, where it is not its own; near: about where it will begin."""
    if what is Heard.MOVING:
        from jiyuu.bench.moving_voice import moving_voice

        return moving_voice(standing, near=near)
    if is_computed(standing, what):
        inputs = (of or standing).setup.inputs
        return BehindIt(standing.moved(setup=standing.setup.model_copy(update={"inputs": inputs})))
    return Voice(standing, what, looped_source(of or standing, what))


class Listening(QObject):
    """The level begins soft in every window and is not remembered."""

    message = pyqtSignal(str, bool)
    changed = pyqtSignal()  # what, loop, level, playing, which of two

    def __init__(self, session: Session, output: Callable[[], SoundOutput] = DeviceOutput) -> None:
        super().__init__(session)
        self._session = session
        self.output = SoundingOutput(output)
        self.what, self.loop, self.level_db = Heard.FILTER, True, LEVEL_DB
        self.marked: Marked | None = None
        self.hears_marked = False
        self._mixer = Mixer()
        self._wanted = self._warned = False
        self.jobs = Jobs(session.crew, "making the sound", self)
        self.jobs.stepped.connect(self._sound)
        self.jobs.failed.connect(self._refused)
        self.match_jobs = Jobs(session.crew, "comparing loudness", self)
        self.match_jobs.stepped.connect(self._match)
        self._follow, self._look, self._once, self._matching = (QTimer(self) for _ in range(4))
        for timer, after_ms, then in ((self._follow, FOLLOW_MS, self._render),
                                      (self._matching, MATCH_MS, self._compare),
                                      (self._once, round(1000 * SOUND_S), self.stop)):
            timer.setSingleShot(True)
            timer.setInterval(after_ms)
            timer.timeout.connect(then)
        self._look.setInterval(LOOK_MS)
        self._look.timeout.connect(self._close_when_silent)
        for signal in (session.settings_changed, session.filter_changed):
            signal.connect(self._turned)
        session.sounding.connect(lambda who: self.stop() if who is not self and self._wanted else None)

    @property
    def playing(self) -> bool:
        return self._wanted

    @property
    def output_open(self) -> bool:
        """Something still reaches the output, if only the end of a fade."""
        return self.output.is_open

    def toggle(self) -> None:
        """Play, or fade out."""
        if self._wanted:
            self.stop()
        else:
            self.play()

    def play(self) -> None:
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        self._wanted = True
        self._session.sounding.emit(self)
        self.changed.emit()
        self._render()

    def stop(self) -> None:
        """Fade out; the output is closed when the last of it has sounded."""
        self._wanted = False
        self._follow.stop()
        self._once.stop()
        if self.jobs.busy:
            self.jobs.cancel()
        self._mixer.fade_out()
        self.changed.emit()

    def silence(self) -> None:
        """At once, for closing."""
        self._wanted = False
        for timer in (self._follow, self._look, self._once, self._matching):
            timer.stop()
        self.output.close()
        self.jobs.drop()
        self.match_jobs.drop()
        self._mixer.fade_out()
        self.changed.emit()

    def choose(self, what: Heard) -> None:
        self.what = what
        self._turned()
        self.changed.emit()

    def set_loop(self, on: bool) -> None:
        self.loop = on
        self._time_once()
        self.changed.emit()

    def set_level(self, level_db: float) -> None:
        """Re FULL_SCALE_V at full scale; the ceiling stays where it is."""
        self.level_db = min(max(level_db, QUIETEST_DB), 0.0)
        self._mixer.set_level(self.level_db)
        self.changed.emit()

    # Two beside each other

    def compare(self) -> None:
        """The filter as it stands is marked, to be turned away from; once one is marked, the other of the two is
        heard."""
        shelved = self._session.in_hand
        if shelved is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        if self.marked is None:
            self.marked, self.hears_marked = Marked(shelved.letter, self._session.standing()), False
            self.message.emit(f"{shelved.letter} as it stands is marked: turn something or take another filter, and "
                              "switch between the two by ear, at equal loudness.", False)
            if self._wanted:
                self._render()
        else:
            self.hears_marked = not self.hears_marked
            self._mixer.listen_to(OTHER if self.hears_marked else NOW)
        self.changed.emit()

    def forget_marked(self) -> None:
        """Nothing beside the filter in hand any more."""
        self.marked, self.hears_marked = None, False
        self._mixer.drop(OTHER)
        self._mixer.listen_to(NOW)
        self.changed.emit()

    # While it sounds

    def follow(self, standing: Standing) -> None:
        """While something is dragged: what only glides is heard at once, as far as this voice's steps are short enough
        for it; let go of, it gets a voice with shorter ones."""
        voice = self._mixer.voice(NOW)
        if self._wanted and voice is not None and voice.kind[:-1] == kind_of(standing, voice.what)[:-1]:
            wanted = Turned.of(standing)
            highest_hz = max(HIGHEST_DRAGGED_HZ, voice.cutoff_hz)
            voice.turn(replace(wanted, cutoff_hz=min(wanted.cutoff_hz, highest_hz)))

    def _turned(self) -> None:
        if not self._wanted or self._session.in_hand is None:
            return
        standing, voice = self._session.standing(), self._mixer.voice(NOW)
        if voice is not None and voice.kind == kind_of(standing, self.what):
            voice.turn(Turned.of(standing))
            self._warn(standing)
        else:
            self._follow.start()
        if self.marked is not None:
            self._matching.start()

    def _render(self) -> None:
        if self._session.in_hand is None:
            self.stop()
            return
        standing, what, marked = self._session.standing(), self.what, self.marked
        beside = self._mixer.voice(OTHER) is None and marked is not None

        def steps() -> Iterator[object]:
            heard_band(HEARD_RATE_HZ)
            if what is Heard.WHISTLE and not standing.self_oscillates:
                raise SignalError("At this resonance the filter does not whistle; turn it past its onset first.")
            before = self._mixer.voice(NOW)
            yield NOW, _voice(standing, what, near=0 if before is None else before.place), standing
            if marked is not None and beside:
                # Of the same source, or it would not be the filters that are compared.
                yield OTHER, _voice(marked.standing, what, of=standing), marked.standing

        self.jobs.start(steps)

    def _sound(self, ready: tuple[str, AnyVoice, Standing]) -> None:
        name, voice, standing = ready
        try:
            self.output.open(self._mixer.fill)
        except JiyuuError as error:
            self._refused(str(error))
            return
        self._mixer.set_level(self.level_db)
        self._mixer.play(name, voice, heard=(name == OTHER) == self.hears_marked)
        if name == OTHER:
            self._matching.start(0)
        self._look.start()
        self._time_once()
        self._warn(standing)

    def _time_once(self) -> None:
        if self.loop:
            self._once.stop()
        elif self._wanted and not self._once.isActive():
            self._once.start()

    def _warn(self, standing: Standing) -> None:
        if standing.self_oscillates and not self._warned and self.what is not Heard.SOURCE:
            self._warned = True
            self.message.emit(WARNING, False)

    def _compare(self) -> None:
        """How loud both are, beside the window."""
        marked, what = self.marked, self.what
        if marked is None or not self._wanted or self._session.in_hand is None:
            return
        standing = self._session.standing()

        def steps() -> Iterator[object]:
            from jiyuu.measurement.levels import measure_levels

            found = [measure_levels(heard_record(one, what, duration_s=MATCHED_S), HEARD_RATE_HZ,
                                    full_scale_v=1.0).loudness_lufs for one in (standing, marked.standing)]
            if found[0] is not None and found[1] is not None:
                yield 10 ** ((found[0] - found[1]) / 20)

        self.match_jobs.start(steps)

    def _match(self, factor: float) -> None:
        voice = self._mixer.voice(OTHER)
        if voice is not None:
            voice.match = factor

    def _refused(self, text: str) -> None:
        self.stop()
        self.message.emit(text, True)

    def _close_when_silent(self) -> None:
        if self._mixer.sounding:
            return
        self._look.stop()
        # What has been handed over is still on its way through the output's buffer.
        QTimer.singleShot(LAST_MS, self._close_if_unused)

    def _close_if_unused(self) -> None:
        if not self._wanted and not self._mixer.sounding:
            self.output.close()
