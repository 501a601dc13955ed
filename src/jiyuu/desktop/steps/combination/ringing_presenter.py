"""State of what rings on in the path of the filter in hand when it is driven."""

from __future__ import annotations

from jiyuu.bench.ringing import can_ring, ringing_steps
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.combination.beside_presenter import BesidePresenter
from jiyuu.desktop.steps.combination.presenter import CombinationPresenter
from jiyuu.errors import JiyuuError


class RingingPresenter(BesidePresenter):
    """Heard are 0 a soft note, 1 one that is driven, equally loud."""

    def __init__(self, session: Session, combination: CombinationPresenter) -> None:
        super().__init__(session, combination, "driving what rings")

    @property
    def offered(self) -> bool:
        """Whether the filter in hand has anything in its path that rings."""
        try:
            return self._session.in_hand is not None and can_ring(self._session.standing())
        except JiyuuError:
            return False

    def find(self) -> None:
        if self.offered:
            standing = self._session.standing()
            self.start("Playing a note through the path", lambda: ringing_steps(standing))
