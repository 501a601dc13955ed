"""State of the Combination step: which stage of the path is looked at, what its parts make together, how far filters
that go with the knob stand apart."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from pydantic import ValidationError
from PyQt6.QtCore import pyqtSignal

from jiyuu.bench.combinations import COMBINATIONS
from jiyuu.bench.patched import filled_path
from jiyuu.bench.setting import said
from jiyuu.bench.setup import Setup
from jiyuu.bench.step import Step
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.path.presenter import PathPresenter
from jiyuu.desktop.path.words import stage_name
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.presenter import StepPresenter
from jiyuu.errors import CircuitError, JiyuuError
from jiyuu.measurement.finding import Finding
from jiyuu.patch.between_stages import Crush
from jiyuu.patch.document import AnyStage
from jiyuu.patch.editing import Path, Place, path_at, places, replaced, stage_at
from jiyuu.patch.linear_stages import Bank, Formants
from jiyuu.patch.response import path_gain
from jiyuu.patch.shapes import Shapes
from jiyuu.prediction.combined import Combined, Woken, combined, findings_of, woken_by
from jiyuu.prediction.images import Images, images_of
from jiyuu.signals.source import mixed_lines

WHOLE = "All of the path"
LOWEST_HZ, HIGHEST_HZ, MOST_DB = 10.0, 22_000.0, 60.0  # that a band is dragged to
MELODY = (0.0, 3.0, 7.0, 12.0)  # semitones over the source, where there is no figure


@dataclass(frozen=True, slots=True, eq=False)
class Looked:
    """What is looked at: stage (None: all of the path), what it makes; for a bank which bands the notes wake, for a
    crusher the images of what is played."""

    stage: AnyStage | None
    found: Combined
    notes_hz: tuple[float, ...] = ()
    woken: tuple[Woken, ...] = ()
    images: Images | None = None


class CombinationPresenter(StepPresenter):
    """The view asks with methods; signals carry finished values."""

    looked = pyqtSignal(object)  # Looked or None

    def __init__(self, session: Session, measuring: Measuring, step: Step) -> None:
        super().__init__(session, measuring, step)
        self.seen: Looked | None = None
        self._findings: tuple[Finding, ...] = ()
        self.more: list[Callable[[], tuple[Finding, ...]]] = []  # what is found beside it
        self.path = PathPresenter(session)  # of its own: what is looked at here need not be chosen on the strip
        self.path.message.connect(self.message)
        self.path.changed.connect(self._other_stage)

    # What is shown

    @property
    def place(self) -> Place | None:
        """Of the stage that is looked at; None for all of the path."""
        return self.path.chosen if isinstance(self.path.chosen, tuple) else None

    def choices(self) -> list[tuple[str, Place | None]]:
        """Everything that can be looked at."""
        return [(WHOLE, None), *((f"{'   ' * (len(place) // 2)}{self._named(stage)}", place)
                                 for place, stage in places(self.path.path))]

    def _named(self, stage: AnyStage) -> str:
        return "filter in hand" if stage.id == self._session.standing().setup.in_hand else stage_name(stage)

    def look_at(self, place: Place | None) -> None:
        self.path.choose(place)

    def _other_stage(self) -> None:
        if self._awake and self._fresh and self.shelved is not None:
            self.standing.emit(self.now())
            self.show_standing()
            self.say()

    def show_standing(self) -> None:
        """Milliseconds: linear, quick enough for every move of a hand."""
        standing = self.now()
        path, place = filled_path(standing), self.place
        if place is not None and place not in dict(places(path)):
            place = None
        names = tuple(self._named(stage) for stage in path)
        try:
            found = combined(path, place, names=names)
            self.seen = self._looked(path, place, found)
            self._findings = (*findings_of(found, path, place), *self._image())
        except JiyuuError as error:
            self.seen, self._findings = None, ()
            self.message.emit(str(error), True)
        self.looked.emit(self.seen)

    def _looked(self, path: Path, place: Place | None, found: Combined) -> Looked:
        stage = None if place is None else stage_at(path, place)
        if isinstance(stage, Crush):
            assert place is not None
            lines_hz, lines_v = mixed_lines(self.now().setup.sources())
            ahead = path[: place[0]] if len(place) == 1 else (*path[: place[0]], *path_at(path, place)[: place[-1]])
            reached = np.abs(path_gain(ahead, lines_hz)) * self.now().drive
            return Looked(stage, found, images=images_of(stage.rate_hz, lines_hz, lines_v * reached))
        if not isinstance(stage, Bank):
            return Looked(stage, found)
        setup = self.now().setup
        source = setup.inputs[0].source()
        figure = setup.figure
        if figure is None:
            notes = tuple(source.pitch_hz * 2 ** (semitones / 12) for semitones in MELODY)
        else:
            notes = tuple(figure.root_hz * 2 ** (step.semitones / 12) for step in figure.steps
                          if not (step.rest or step.tie))
        return Looked(stage, found, notes, tuple(woken_by(stage, notes, source)))

    def _image(self) -> tuple[Finding, ...]:
        seen = self.seen
        if seen is None or seen.images is None or not isinstance(seen.stage, Crush):
            return ()
        found = seen.images.finding(seen.stage.rate_hz)
        return () if found is None else (found,)

    def predicted_findings(self) -> tuple[Finding, ...]:
        return (*self._findings, *(finding for more in self.more for finding in more()))

    def heading(self) -> str:
        if self.path.shown is not None and not self._session.standing().setup.surrounds:
            return "The filter stands alone: choose something to combine it with (Stage)."
        setup = None if self.shelved is None else self._session.standing().setup
        ends = [] if setup is None else [
            *([f"begins behind {stage_name(setup.ahead[-1])}"] if setup.ahead else []),
            *([f"ends ahead of {stage_name(setup.behind[0])}"] if setup.behind else [])]
        if ends:
            return f"Predicted from the drawing; what is measured {' and '.join(ends)}."
        return "Predicted from the drawing; Response measures all of the path together."

    # What the person does

    def start_from(self, key: str) -> None:
        """A combination in place of the path there was, as one act."""
        if self.shelved is None:
            return
        chosen, standing = COMBINATIONS[key], self._session.standing()
        if self._change(chosen.make(standing)):
            self.path.choose(chosen.looked_at or None)
            self.message.emit(f"{chosen.title}: {chosen.says}. Ctrl+Z takes it back.", False)

    def try_spacing(self, name: str, octaves: float) -> None:
        """While its line is dragged."""
        setup = self._session.standing().setup
        if name in setup.tied:
            self._try(setup=setup.model_copy(update={"tied": {**setup.tied, name: octaves}}))

    def set_spacing(self, name: str, octaves: float) -> None:
        """How far a filter stands from the knob that moves both."""
        setup = self._session.standing().setup
        self._change({"tied": {**setup.tied, name: round(float(octaves), 4)}})

    def set_tied(self, name: str, tied: bool) -> None:
        """Whether a filter of the path goes with the knob; it stays where it stands."""
        standing = self._session.standing()
        others = {other: octaves for other, octaves in standing.setup.tied.items() if other != name}
        if tied:
            stage = next((one for _, one in places(standing.setup.path) if one.id == name), None)
            hertz = getattr(getattr(stage, "document", None), "cutoff_hz", standing.standing_hz)
            others[name] = round(float(np.log2(hertz / standing.standing_hz)), 4)
        self._change({"tied": others})

    def try_morph(self, morph: float) -> None:
        """While the point is dragged from vowel to vowel."""
        place, setup = self.place, self._session.standing().setup
        if place is not None and isinstance(stage_at(self.path.path, place), Formants):
            stage = stage_at(self.path.path, place).model_copy(update={"morph": morph})
            self._try(setup=setup.model_copy(update={"path": replaced(self.path.path, place, stage)}))

    def try_band(self, which: int, hertz: float, gain_db: float) -> None:
        """While its point is dragged."""
        place, setup = self.place, self._session.standing().setup
        stage = None if place is None else stage_at(self.path.path, place)
        if place is not None and isinstance(stage, Shapes) and which < len(stage.bands):
            bands = list(stage.bands)
            bands[which] = bands[which].model_copy(update=_as_band(hertz, gain_db))
            stage = stage.model_copy(update={"bands": tuple(bands)})
            self._try(setup=setup.model_copy(update={"path": replaced(self.path.path, place, stage)}))

    def set_band(self, which: int, hertz: float, gain_db: float) -> None:
        """Where its point is let go."""
        self.path.set_member("bands", which, **_as_band(hertz, gain_db))

    def set_stage(self, **changes: object) -> None:
        """Fields of the stage that is looked at."""
        self.path.set_field(**changes)

    def _change(self, changes: dict[str, object]) -> bool:
        """The set-up, as one act; what cannot be played is said and not taken."""
        standing = self._session.standing()
        try:
            try:
                setup = Setup.model_validate({**standing.setup.model_dump(), **changes})
            except ValidationError as error:
                raise CircuitError(said(Setup, error)) from error
            standing.moved(setup=setup).network.output_index(standing.mode)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self.refresh()
            return False
        self._session.change({"setup": setup.model_dump(mode="json", exclude_defaults=True) or None})
        return True


def _as_band(hertz: float, gain_db: float) -> dict[str, float]:
    """As a hand means it, no finer than it is drawn."""
    return {"frequency_hz": float(f"{min(max(hertz, LOWEST_HZ), HIGHEST_HZ):.4g}"),
            "gain_db": round(min(max(gain_db, -MOST_DB), MOST_DB), 1)}
