"""A step of the walk, described once: what it is called, what it asks, what it measures, when that no longer holds."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar, Generic

from typing_extensions import TypeVar

from jiyuu.bench.run import Run
from jiyuu.bench.setting import Setting
from jiyuu.bench.standing import Standing
from jiyuu.progress import Progress
from jiyuu.rig.protocol import Rig
from jiyuu.wording.quantity import Quantity

# Whoever holds steps of all kinds need not name them.
SettingT = TypeVar("SettingT", bound=Setting, default=Any)
RequestT = TypeVar("RequestT", default=Any)


class Step(ABC, Generic[SettingT, RequestT]):
    """number: its place in the walk; key: its name in files and books; purpose: what it is for, in a few words; tip:
    what measuring does. quantities: those that it brings along itself. depends_on: parts of the filter as it stands
    (names of Standing.as_json) and of the setting ('setting.…') whose move puts a run out of date. kept_as: what its
    runs are called where that is not its key."""

    number: ClassVar[int]
    key: ClassVar[str]
    name: ClassVar[str]
    purpose: ClassVar[str]
    tip: ClassVar[str] = ""
    measures: ClassVar[bool] = True
    setting: ClassVar[type[Setting]] = Setting
    quantities: ClassVar[Mapping[str, Quantity]] = {}
    depends_on: ClassVar[tuple[str, ...]] = ()
    kept_as: ClassVar[str] = ""
    hears_all: ClassVar[bool] = False  # what stands behind the filter in hand counts too
    takes: ClassVar[float] = 1.0  # to measure in one mode, re Tracking: of many the longest is begun first

    @property
    def run_key(self) -> str:
        """What its runs are called in a book."""
        return self.kept_as or self.key

    def refuse(self, standing: Standing, setting: SettingT) -> str | None:
        """Why it cannot be measured as it stands, with what to do; None where it can."""
        return None

    def modes(self, standing: Standing, setting: SettingT) -> tuple[str, ...]:
        """The outputs that are measured, the chosen one last: the newest run is the one looked at."""
        return (standing.mode,)

    def thorough(self, setting: SettingT) -> SettingT:
        """The setting for whoever has time: the whole walk."""
        return setting

    @abstractmethod
    def request(self, standing: Standing, setting: SettingT) -> RequestT:
        """Everything a run needs, frozen."""

    @abstractmethod
    def run(self, standing: Standing, setting: SettingT, request: RequestT, rig: Rig) -> Iterator[Progress | Run]:
        """Yields progress, and every run as it ends."""

    def predict(self, standing: Standing, setting: SettingT) -> Iterator[object]:
        """What the drawing says, early and then refined."""
        return iter(())


class Unmeasured(Step[Setting, None]):
    """A step at which nothing is measured."""

    measures = False

    def refuse(self, standing: Standing, setting: Setting) -> str | None:
        return f"Nothing is measured in {self.name}; go to a step that measures, Response first."

    def request(self, standing: Standing, setting: Setting) -> None:
        return None

    def run(self, standing: Standing, setting: Setting, request: None, rig: Rig) -> Iterator[Progress | Run]:
        return iter(())
