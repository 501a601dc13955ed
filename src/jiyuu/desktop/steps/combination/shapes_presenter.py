"""What is done with the stored settings of shelves and peaks: stored, gone back to, morphed between."""

from __future__ import annotations

from collections.abc import Sequence

from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.patch.document import Stereo
from jiyuu.patch.editing import Place, places, stage_at
from jiyuu.patch.shapes import CORNERS, Shapes

WAYS = ("morph", "morph_2", "morph_3")  # fields, one a way
NOT, ALONG, SHEET, BLOCK = "no morph", "along all of them", "sheet of four", "block of eight"


class ShapesPresenter:
    """Of the stage that is looked at; nothing happens where that is another kind."""

    def __init__(self, combination: CombinationPresenter) -> None:
        self._combination = combination

    @property
    def stage(self) -> Shapes | None:
        stage = self._combination.path.stage()
        return stage if isinstance(stage, Shapes) else None

    def choices(self) -> list[str]:
        """How it can be morphed, with so many settings as there are."""
        count = 0 if self.stage is None else len(self.stage.settings)
        found = [NOT, *([ALONG] if count > 1 else [])]
        return found + [name for name, corners in ((SHEET, CORNERS[2]), (BLOCK, CORNERS[3])) if corners == count]

    @property
    def choice(self) -> str:
        return NOT if self.stage is None else (NOT, ALONG, SHEET, BLOCK)[len(self.stage.ways)]

    def store(self, name: str) -> None:
        """The bands as they stand, under a name; none is overwritten."""
        stage, name = self.stage, name.strip()
        if stage is None:
            return
        if not name:
            self._say("Type a name to store the bands under.", bad=False)
        elif any(setting.name == name for setting in stage.settings):
            self._say(f"A setting is called '{name}' already and is kept as it is; type another name.", bad=True)
        else:
            bands, trim_db = stage.standing()
            self._settings([*stage.model_dump()["settings"], {
                "name": name, "bands": [band.model_dump() for band in bands], "trim_db": trim_db}])

    def recall(self, name: str) -> None:
        """Back to a setting; the bands count again."""
        stage = self.stage
        setting = None if stage is None else next((one for one in stage.settings if one.name == name), None)
        if setting is not None:
            self._combination.set_stage(**setting.model_dump(exclude={"name"}), **dict.fromkeys(WAYS))

    def begin_anew(self) -> None:
        """No band, no trim; what is stored stays."""
        if self.stage is not None:
            self._combination.set_stage(bands=(), trim_db=0.0, **dict.fromkeys(WAYS))

    @property
    def across(self) -> Place | None:
        """Where shelves and peaks stand on the other side, in the same place."""
        place, path = self._combination.place, self._combination.path.path
        if place is None or len(place) < 3 or not isinstance(stage_at(path, place[:-2]), Stereo):
            return None
        there = (*place[:-2], 1 - place[-2], place[-1])
        return there if isinstance(dict(places(path)).get(there), Shapes) else None

    def copy_across(self) -> None:
        """All of it onto the other side, which keeps its name."""
        stage, there = self.stage, self.across
        if stage is None or there is None:
            return
        other = stage_at(self._combination.path.path, there)
        self._combination.path.put(there, stage.model_copy(update={"id": other.id}))

    def take_away(self, name: str) -> None:
        """A setting out of the stored ones; Ctrl+Z brings it back."""
        stage = self.stage
        if stage is not None:
            left = [one for one in stage.model_dump()["settings"] if one["name"] != name]
            self._settings(left, **dict.fromkeys(WAYS))

    def choose(self, how: str) -> None:
        """What it is morphed between, from its beginning; none: the bands count."""
        ways = (NOT, ALONG, SHEET, BLOCK).index(how)
        self._combination.set_stage(**{name: 0.0 if i < ways else None for i, name in enumerate(WAYS)})

    def set_way(self, way: int, value: float) -> None:
        """How far along one of the ways, 0 to 1."""
        self._combination.set_stage(**{WAYS[way]: value})

    def name_way(self, way: int, name: str) -> None:
        """What a person calls it."""
        stage = self.stage
        if stage is not None and name.strip():
            names = [*stage.axes, *WAYS[len(stage.axes) :]]
            names[way] = name.strip()
            self._combination.set_stage(axes=tuple(names[: max(len(stage.ways), way + 1)]))

    def _settings(self, settings: Sequence[dict[str, object]], **more: object) -> None:
        self._combination.set_stage(settings=tuple(settings), **more)

    def _say(self, text: str, *, bad: bool) -> None:
        self._combination.message.emit(text, bad)
