"""What the parts of the window ask of the window, so that they need not know it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PyQt6.QtWidgets import QMainWindow

from jiyuu.desktop.listening import Listening
from jiyuu.desktop.measuring import Measuring
from jiyuu.desktop.session import Session
from jiyuu.desktop.steps.step_view import StepView


class Frame(Protocol):
    """The window as its files and menus see it."""

    session: Session
    measuring: Measuring
    listening: Listening
    step: str

    @property
    def shown(self) -> StepView: ...

    def window_widget(self) -> QMainWindow: ...

    def view(self, key: str) -> StepView: ...

    def go(self, key: str) -> None: ...

    def cancel(self) -> None: ...

    def undo(self) -> None: ...

    def redo(self) -> None: ...

    def say(self, text: str, error: bool = False) -> None: ...

    def remember(self) -> None: ...

    def book_opened(self) -> None: ...

    def when_idle(self, then: Callable[[], None], what: str) -> None: ...
