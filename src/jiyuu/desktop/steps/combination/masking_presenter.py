"""State of masking: what is to be heard beside the filter in hand, what of it is hidden, the cut."""

from __future__ import annotations

from pathlib import Path

from jiyuu.bench.masked import Masked, masked_steps
from jiyuu.bench.steps.combination import CombinationSetting
from jiyuu.desktop.measuring import EMPTY_SHELF
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.combination.beside_presenter import BesidePresenter
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.patch.shapes import Band

TO_DO = ("Say what is to be heard beside the filter in hand; every band of the ear is then cut once in the filter's "
         "sound.")


class MaskingPresenter(BesidePresenter):
    """Heard are both together: 0 as they are, 1 with the cut."""

    def __init__(self, session: Session, combination: CombinationPresenter) -> None:
        super().__init__(session, combination, "looking for what hides it")

    @property
    def setting(self) -> CombinationSetting:
        setting = self._combination.setting
        assert isinstance(setting, CombinationSetting)
        return setting

    @property
    def masked(self) -> Masked | None:
        assert self.found is None or isinstance(self.found, Masked)
        return self.found

    def find(self) -> None:
        if self._session.in_hand is None:
            self.message.emit(EMPTY_SHELF, True)
            return
        if self.setting.wanted == "file" and not Path(self.setting.wanted_path).exists():
            self.message.emit("The file with the sound is not there any more; choose it again.", True)
            return
        standing, setting = self._session.standing(), self.setting
        self.start("Playing the filter in hand", lambda: masked_steps(standing, setting))

    def take(self) -> None:
        """The cut into the path, behind the filter in hand."""
        cut = None if self.masked is None else self.masked.found.cut
        if cut is None:
            self.message.emit("There is no cut to take; find what hides the sound first.", False)
            return
        self._combination.path.add_band(Band(kind="peak", frequency_hz=cut.frequency_hz, gain_db=cut.gain_db,
                                             q=round(cut.q, 4)))
