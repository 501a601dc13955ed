"""State of the signal path: its stages with the volts behind each, the one that is chosen, and what is done to it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ValidationError
from PyQt6.QtCore import QObject, pyqtSignal

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.bench.patched import filled_path, marker, path_of
from jiyuu.bench.setting import said
from jiyuu.bench.setup import SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.circuits.linear import complex_gain, level_db
from jiyuu.desktop.path.shown import COMES_IN, LEVEL, NEXT, SOURCE, TRIM, Box, Item, Shown, is_branch, own_sources
from jiyuu.desktop.path.words import stage_name
from jiyuu.desktop.session import Session
from jiyuu.errors import CircuitError, JiyuuError, SignalError
from jiyuu.patch.between_stages import Comb, Crush
from jiyuu.patch.document import (
    AnyStage,
    Chord,
    Feedback,
    FilterStage,
    Gain,
    Limb,
    Pair,
    PairedFilter,
    Parallel,
    PatchSource,
    Resonator,
    Shape,
    Stereo,
    inner_paths,
)
from jiyuu.patch.editing import (
    Path,
    Place,
    inserted,
    moved,
    opened,
    place_of,
    places,
    put_beside_dry,
    put_into_loop,
    removed,
    replaced,
    stage_at,
)
from jiyuu.patch.joints import Heard, joints_of
from jiyuu.patch.linear_stages import AllPass, Bank, Formants
from jiyuu.patch.shapes import MOST_BANDS, Band, Shapes
from jiyuu.prediction.response import GRID_HZ
from jiyuu.quantities import shown_hz, signed
from jiyuu.signals.source import RECORD_RATE_HZ, mixed_record
from jiyuu.simulation.source_through import SourceThrough

RECORD_S = 0.5
JOINT_HZ = GRID_HZ[::2]
ANOTHER: dict[str, dict[str, object]] = {"branches": {"level_db": -6.0}, "bands": {}, "groups": {}}
KINDS: dict[str, Callable[[], AnyStage]] = {
    "gain": lambda: Gain(stage="gain"), "shape": lambda: Shape(stage="shape"),
    "filter": lambda: FilterStage(stage="filter", filter="state-variable", cutoff_hz=2000.0),
    "parallel": lambda: Parallel(stage="parallel", branches=(Limb(level_db=-6.0), Limb(level_db=-6.0))),
    "stereo": lambda: Stereo(stage="stereo"),
    "pair": lambda: Pair(stage="pair", first=PairedFilter(filter="state-variable", mode="highpass"),
                         second=PairedFilter(filter="state-variable", mode="lowpass"), spacing_octaves=2.0),
    "bank": lambda: Bank(stage="bank"), "formants": lambda: Formants(stage="formants"),
    "shapes": lambda: Shapes(stage="shapes", bands=(Band(gain_db=6.0),)), "allpass": lambda: AllPass(stage="allpass"),
    "resonator": lambda: Resonator(stage="resonator"), "comb": lambda: Comb(stage="comb"),
    "chord": lambda: Chord(stage="chord"), "crush": lambda: Crush(stage="crush"),
}


_Own = tuple[tuple[PatchSource, ...], SourceThrough]


def _through_of(sources: tuple[PatchSource, ...], known: _Own | None) -> SourceThrough:
    """A branch's own, held ready; anew where they were changed."""
    if known is not None and known[0] == sources:
        return known[1]
    return SourceThrough(mixed_record([one.source() for one in sources], duration_s=RECORD_S), RECORD_RATE_HZ)


class PathPresenter(QObject):
    """The strip and the panel ask with methods."""

    changed = pyqtSignal()
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.shown: Shown | None = None
        self.chosen: Item | None = None
        self._inputs: tuple[SourceSetting, ...] = ()
        self._through: SourceThrough | None = None
        self._source_v = 0.0
        self._own: dict[Place, _Own] = {}
        self._heard: dict[tuple[SourceThrough, bytes], FloatArray] = {}
        session.filter_changed.connect(self._other_filter)
        session.settings_changed.connect(self.refresh)
        self.refresh()

    # What stands

    def standing(self) -> Standing:
        return self._session.standing()

    @property
    def path(self) -> Path:
        """The stages between level and trim, the filter in hand among them."""
        return path_of(self.standing())

    def stage(self) -> AnyStage | None:
        """The one that is chosen, where a stage is."""
        return stage_at(self.path, self.chosen) if isinstance(self.chosen, tuple) else None

    @property
    def is_in_hand(self) -> bool:
        """The chosen stage is the filter in hand itself."""
        stage = self.stage()
        return stage is not None and stage.id == self.standing().setup.in_hand

    def _other_filter(self) -> None:
        self.chosen = None
        self.refresh()

    def refresh(self) -> None:
        """Everything anew, for the filter in hand."""
        if self._session.in_hand is None:
            self.shown, self.chosen = None, None
        else:
            known = dict(places(self.path))
            if isinstance(self.chosen, tuple) and self.chosen not in known:
                self.chosen = None
            self.shown = self._show(self.standing())
        self.changed.emit()

    def _show(self, standing: Standing) -> Shown:
        setup, rail_v = standing.setup, standing.document.tolerances.rail_v
        source_v, through = self._source(standing)

        path = filled_path(standing)
        known, self._own = self._own, {}
        for place, stage in places(path):
            for k, limb in enumerate(stage.branches if isinstance(stage, Parallel) else ()):
                if limb.sources:
                    self._own[*place, k] = limb.sources, _through_of(limb.sources, known.get((*place, k)))

        before, self._heard = self._heard, {}

        def output_of(of: SourceThrough, gain: ComplexArray) -> FloatArray:
            """What a hand does not turn stays as it was from move to move."""
            key = of, gain.tobytes()
            if key not in self._heard:
                self._heard[key] = before[key] if key in before else of.output_v(JOINT_HZ, gain)
            return self._heard[key]

        def peak_of(heard: Heard) -> float:
            total = np.zeros(1)
            for branch, gain in heard.items():
                if gain.any():
                    total = total + (output_of(self._own[branch][1], gain) if branch else
                                     standing.drive * output_of(through, gain))
            return float(np.abs(total).max())

        joints = joints_of(path, JOINT_HZ, peak_of, side=setup.side)
        reached_v = min(joints.output_v, rail_v)
        at_rail = joints.output_v > rail_v
        over = reached_v > setup.output_limit_v
        trim_db = 20 * np.log10(setup.output_limit_v / max(reached_v, 1e-9))
        trimmed = f", {reached_v * setup.trim:.2f} V behind {signed(setup.trim_db)} dB" if setup.trim_db else ""
        driven_v = source_v * standing.drive
        boxes = [Box(SOURCE, f"source, {setup.source_names.removeprefix('the ')}", f"{source_v:.2f} V peak"),
                 Box(LEVEL, f"level {signed(setup.drive_db)} dB", f"{driven_v:.2f} V in", driven_v > rail_v)]
        hand: Place = ()
        for place, stage in places(path):
            if stage.id == setup.in_hand:
                hand = place
                boxes.append(self._filter_box(place, standing))
            else:
                volts = "off" if stage.off else f"{joints.peak_v[place]:.2f} V" if place in joints.peak_v else "–"
                boxes.append(Box(place, stage_name(stage), volts, off=stage.off))
            boxes += own_sources(place, stage)
        boxes += [
            Box(TRIM, "output, small signal", f"{reached_v:.2f} V" + (" (at the rail)" if at_rail else "") + trimmed,
                at_rail),
            Box(NEXT, f"next module ±{setup.next_limit_v:g} V",
                f"overload: trim {signed(trim_db)} dB" if over else f"{trim_db:.1f} dB left", over)]
        return Shown(self._session.in_hand.letter if self._session.in_hand else "A", path, hand,
                     {box.item: box for box in boxes},
                     tuple(box.item for box in boxes if not is_branch(box.item)))

    @staticmethod
    def _filter_box(place: Place, standing: Standing) -> Box:
        gains = complex_gain(standing.network, JOINT_HZ, cutoff_hz=standing.standing_hz, gain=standing.gain,
                             modes=[standing.mode])[0]
        rings = standing.self_oscillates
        text = "oscillates" if rings else f"{signed(float(level_db(gains).max()))} dB at most"
        return Box(place, f"filter at {shown_hz(standing.standing_hz)}", text, rings)

    def _source(self, standing: Standing) -> tuple[float, SourceThrough]:
        """Peak volts of the source, and the source held ready; made anew only when it was changed."""
        if self._inputs != standing.setup.inputs or self._through is None:
            try:
                record = mixed_record(standing.setup.sources(), duration_s=RECORD_S)
            except SignalError:  # a file that has gone: the Setup step says so
                record = np.zeros(round(RECORD_S * RECORD_RATE_HZ))
            self._through, self._inputs = SourceThrough(record, RECORD_RATE_HZ), standing.setup.inputs
            self._source_v = float(np.abs(record).max())
        return self._source_v, self._through

    # What the person does

    def choose(self, item: Item | None) -> None:
        """Another place of the path, or none; of a branch's own source, what holds the branch."""
        if isinstance(item, tuple) and is_branch(item):
            item = item[:-1]
        if item != self.chosen:
            self.chosen = item
            self.changed.emit()

    def step_along(self, by: int) -> None:
        """To the neighbour, as the keys go."""
        if self.shown is not None:
            order = self.shown.order
            here = order.index(self.chosen) if self.chosen in order else (-1 if by > 0 else len(order))
            self.choose(order[min(max(here + by, 0), len(order) - 1)])

    def add(self, kind: str) -> None:
        """A stage behind the one that is chosen; at the path's end where none is. Into a loop goes what is chosen."""
        path = self.path
        if kind == "feedback":
            self._wrap(put_into_loop, "A loop goes round one stage")
            return
        if self.chosen == LEVEL or self.chosen == SOURCE:
            place: Place = (0,)
        elif isinstance(self.chosen, tuple):
            place = (*self.chosen[:-1], self.chosen[-1] + 1)
        else:
            place = (len(path),)
        self._change(lambda: inserted(path, place, KINDS[kind]()), place)

    def add_band(self, band: Band) -> None:
        """Behind the filter in hand: into shelves and peaks that stand there and have room, else into new ones at the
        path's end."""
        path = self.path
        hand = place_of(path, self.standing().setup.in_hand)
        for i in range(hand[0] + 1 if hand else 0, len(path)):
            stage = path[i]
            if isinstance(stage, Shapes) and not stage.off and not stage.bypass and len(stage.bands) < MOST_BANDS:
                self._put((i,), stage.model_copy(update={"bands": (*stage.bands, band)}))
                return
        self._change(lambda: inserted(path, (len(path),), Shapes(stage="shapes", bands=(band,))), (len(path),))

    def remove(self) -> None:
        """The chosen stage out of the path."""
        place = self._place("take out")
        if place is not None:
            self._change(lambda: removed(self.path, place), None)

    def move(self, by: Literal[-1, 1]) -> None:
        """The chosen stage to the left or right."""
        place = self._place("move")
        if place is None:
            return
        try:
            path, there = moved(self.path, place, by)
        except JiyuuError as error:
            self.message.emit(str(error), True)
            return
        self._change(lambda: path, there)

    def switch(self) -> None:
        """The chosen stage off, or on again."""
        place = self._place("switch off")
        if place is not None:
            stage = stage_at(self.path, place)
            self._put(place, stage.model_copy(update={"off": not stage.off}))

    def beside_dry(self) -> None:
        """The chosen stage beside the signal as it comes in."""
        self._wrap(put_beside_dry, "A branch is made of one stage")

    def open_up(self) -> None:
        """What holds the chosen one's paths away, its first path stays."""
        place = self._place("open")
        if place is not None:
            self._change(lambda: opened(self.path, place), place)

    def set_field(self, **changes: object) -> None:
        """Fields of the chosen stage."""
        place, stage = self.chosen, self.stage()
        if stage is not None and isinstance(place, tuple):
            self._put_changed(place, stage, changes)

    def set_member(self, field: str, which: int, **changes: object) -> None:
        """Fields of one of several: branches, bands, groups. Which past the last one adds another; `gone` takes it
        out."""
        place, stage = self.chosen, self.stage()
        if stage is not None and isinstance(place, tuple):
            members: list[Any] = [member.model_dump() for member in getattr(stage, field)]
            if which == len(members):
                members.append(dict(ANOTHER[field]))
            elif changes.pop("gone", False):
                del members[which]
            else:
                members[which].update(changes)
            self._put_changed(place, stage, {field: members})

    def set_branch_source(self, which: int, **changes: object) -> None:
        """Fields of what a branch takes instead of what comes in; kind COMES_IN: it takes that again."""
        stage = self.stage()
        if isinstance(stage, Parallel):
            sources: list[Any] = [one.model_dump() for one in stage.branches[which].sources] or [{}]
            sources[0].update(changes)
            self.set_member("branches", which, sources=[] if sources[0].get("kind") == COMES_IN else sources)

    def set_through(self, **changes: object) -> None:
        """The curve in the chosen loop; kind None is none."""
        place, stage = self.chosen, self.stage()
        if isinstance(stage, Feedback) and isinstance(place, tuple):
            curve = {**(stage.through.model_dump() if stage.through else {}), **changes}
            self._put_changed(place, stage, {"through": None if curve.get("kind") is None else curve})

    def set_setup(self, **changes: object) -> None:
        """Level, trim, the limit of what comes next, the side that is looked at."""
        self._guarded(lambda: self._session.change_setup(**changes))

    def _put_changed(self, place: Place, stage: AnyStage, changes: dict[str, object]) -> None:
        def put() -> Path:
            try:
                after = type(stage).model_validate({**stage.model_dump(), **changes})
            except ValidationError as error:
                raise CircuitError(said(type(stage), error)) from error
            self._one_id(place, after)
            return replaced(self.path, place, after)

        self._change(put, place)

    def _one_id(self, place: Place, stage: BaseModel) -> None:
        """Raises CircuitError where another stage bears the name already."""
        own = getattr(stage, "id", None)
        if own is not None and any(other.id == own and there != place for there, other in places(self.path)):
            raise CircuitError(f"Another stage is called '{own}' already; type a name of its own.")

    def put(self, place: Place, stage: AnyStage) -> None:
        """Another stage in a place, without going there."""
        self._change(lambda: replaced(self.path, place, stage), self.chosen if isinstance(self.chosen, tuple) else None)

    def _put(self, place: Place, stage: AnyStage) -> None:
        self._change(lambda: replaced(self.path, place, stage), place)

    def _place(self, doing: str) -> Place | None:
        """Of the chosen stage; what cannot be done is said."""
        if isinstance(self.chosen, tuple):
            return self.chosen
        self.message.emit(f"Choose a stage of the path first: there is nothing to {doing} here.", False)
        return None

    def _wrap(self, how: Callable[[Path, Place], Path], what: str) -> None:
        place = self.chosen
        if not isinstance(place, tuple):
            self.message.emit(f"{what}: choose that stage first.", False)
            return
        self._change(lambda: how(self.path, place), place)

    def _change(self, make: Callable[[], Path], choose: Place | None) -> None:
        """Another path as one act, and what is chosen in it; what cannot be is said and not taken."""
        if self._session.in_hand is None:
            return
        before = self.chosen
        try:
            path = make()
            self.chosen = choose
            self._session.change_path(() if path == (marker(self.standing().document.circuit,
                                                            self.standing().setup.in_hand),) else path)
        except JiyuuError as error:
            self.chosen = before
            self.message.emit(str(error), True)
        self.refresh()

    def _guarded(self, do: Callable[[], object]) -> None:
        try:
            do()
        except JiyuuError as error:
            self.message.emit(str(error), True)
            self.refresh()


def holds_paths(stage: AnyStage) -> bool:
    return bool(inner_paths(stage))
