"""The menus of the window: every act with its keys, those of the step that is looked at among them."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QAction, QShortcut
from PyQt6.QtWidgets import QMenu

from jiyuu.bench.walk import walk
from jiyuu.desktop.acts import fill_menu, letter_keys
from jiyuu.desktop.custody import Custody
from jiyuu.desktop.files import Files
from jiyuu.desktop.frame import Frame
from jiyuu.desktop.help import Help
from jiyuu.desktop.preferences import Preferences
from jiyuu.desktop.remembered import recent_books
from jiyuu.desktop.steps.step_view import Act, StepView
from jiyuu.desktop.theme.style import THEME

LETTER_KEYS = 9


class Menus(QObject):
    """Built once; the menu of the step is filled anew with every step, that of filters with every shelf."""

    def __init__(self, frame: Frame, files: Files, custody: Custody) -> None:
        super().__init__(frame.window_widget())
        self._frame, self._files, self._custody = frame, files, custody
        self.help = Help(frame.window_widget(), self.all_acts)
        self.preferences = Preferences(frame.window_widget(), self.all_acts)
        self.preferences.changed.connect(self._keys_changed)
        self._fixed: list[Act] = []
        self._step_acts: list[Act] = []
        self._letters: list[QShortcut] = []
        self._build()
        frame.session.filter_changed.connect(self._show_shelf)

    def _build(self) -> None:
        frame, files = self._frame, self._files
        bar = frame.window_widget().menuBar()
        assert bar is not None
        bar.clear()
        self._fixed = []
        self._recent = QMenu("&Recent books", bar)
        book = self._menu("&Book", [
            Act("new", "&New book …", "", files.new_book), Act("open", "&Open …", "", files.open_book), None,
            Act("add", "&Add a filter …", "Ctrl+Shift+N", files.choose_circuit),
            Act("away", "&Take the filter off the shelf", "", files.put_filter_away),
            Act("pair", "&Measure recordings …", "Ctrl+Shift+O", files.choose_recordings),
            Act("curve", "&Import a curve …", "", files.choose_curve),
            Act("sound", "Save &sound …", "Ctrl+Shift+E", files.save_sound),
            Act("patch", "Save the &patch …", "", files.save_patch), None,
            Act("report", "Write a &report …", "", files.reporting.choose),
            Act("export", "&Write as open files …", "", self._custody.choose_export),
            Act("folder", "Open a &folder of open files …", "", self._custody.choose_folder),
            Act("earlier", "Open an &earlier copy …", "", self._custody.choose_copy), None,
            Act("close", "&Close", "", frame.window_widget().close),
            Act("quit", "&Quit", "", frame.window_widget().close),
        ])
        book.insertMenu(book.actions()[2], self._recent)
        self._menu("&Edit", [
            Act("undo", "&Undo", "", frame.undo), Act("redo", "&Redo", "Ctrl+Shift+Z", frame.redo), None,
            Act("copy_figure", "&Copy figure", "Ctrl+Shift+C", lambda: self._figure("copy_picture")),
            Act("copy_values", "Copy &values", "Ctrl+Alt+C", lambda: self._figure("copy_values")),
            Act("save_figure", "&Save figure …", "Ctrl+E", lambda: self._figure("choose_and_save")), None,
            Act("stored", "Stored se&ttings …", "Ctrl+Shift+S", files.stored.open),
            Act("put_aside", "Put the newest run &aside", "", lambda: frame.shown.presenter.put_run_aside()), None,
            Act("preferences", "&Preferences …", "Ctrl+,", self.preferences.open),
        ])
        self._step = bar.addMenu("&Step")
        self._menu("&View", [
            Act("theme", "&Paper or night", "Ctrl+T", self.turn_theme),
            Act("larger", "&Larger type", "", lambda: self.scale_type(1.1)),
            Act("smaller", "&Smaller type", "", lambda: self.scale_type(1 / 1.1)),
            Act("usual", "&Usual type", "Ctrl+0", lambda: self.scale_type(None)),
        ])
        self._menu("&Walk", [
            Act("walk", "&Do the whole walk", "Ctrl+Shift+M", frame.measuring.walk),
            Act("cancel", "&Cancel what is measured", "Esc", frame.cancel), None,
            *(Act(f"step_{one.key}", one.name, f"Ctrl+{one.number}" if one.number < 10 else
                  "Ctrl+Shift+0" if one.number == 10 else "", partial(frame.go, one.key)) for one in walk()),
        ])
        self._shelf = bar.addMenu("&Filter")
        self._menu("&Help", [
            Act("guide", "&Guide", "F1", lambda: self.help.open_for(frame.shown)),
            Act("keys", "&Keys and cautions", "Shift+F1", self.help.open_keys),
            Act("about", "&About, licences", "", self.help.open_about),
        ])
        self.show_recent()
        self._show_shelf()

    def _menu(self, title: str, acts: list[Act | None]) -> QMenu:
        bar = self._frame.window_widget().menuBar()
        assert bar is not None
        menu = bar.addMenu(title)
        assert menu is not None
        fill_menu(menu, acts)
        self._fixed += [act for act in acts if act is not None]
        return menu

    def all_acts(self) -> list[Act]:
        """Every act with its keys, those of the step that is looked at first."""
        return [*self._step_acts, *self._fixed]

    def show_step(self, view: StepView) -> None:
        """What can be done in a step: its menu, and single letters in its figures and its list of findings."""
        assert self._step is not None
        self._step.clear()
        every = [Act("measure", "&Measure", "M", view.presenter.measure),
                 Act("keep", "&Keep finding, or take it out", "K", view.keep_current)]
        self._step_acts = [*every, *view.acts, Act("play", "&Play or stop", "P", self._frame.listening.toggle),
                           Act("compare", "Mark, then &switch by ear", "X", self._frame.listening.compare)]
        fill_menu(self._step, self._step_acts)
        for shortcut in self._letters:
            shortcut.setParent(None)
            shortcut.deleteLater()
        self._letters = letter_keys(
            self._step_acts, [view.figures, *([view.findings] if view.findings is not None else [])])

    def _show_shelf(self) -> None:
        assert self._shelf is not None
        self._shelf.clear()
        fill_menu(self._shelf, [
            Act(f"filter_{shelved.letter}", f"{shelved.letter}  {shelved.document.name}",
                f"Alt+{i + 1}" if i < LETTER_KEYS else "", partial(self._frame.session.take, i))
            for i, shelved in enumerate(self._frame.session.shelf)
        ])

    def show_recent(self) -> None:
        """The books opened last."""
        self._recent.clear()
        for name in recent_books():
            action = QAction(name, self._recent)
            action.triggered.connect(lambda _=False, path=name: self._files.open([Path(path)]))
            self._recent.addAction(action)

    def _keys_changed(self) -> None:
        self._build()
        self.show_step(self._frame.shown)

    def _figure(self, what: str) -> None:
        """Of the figure that has the focus, or the step's main one."""
        figures = self._frame.shown.shown_figures()
        chosen = next((figure for figure in figures if figure.widget().hasFocus()), figures[0] if figures else None)
        if chosen is None:
            self._frame.say("There is no figure in this step.", error=True)
        else:
            getattr(chosen, what)()

    def turn_theme(self) -> None:
        THEME.apply("night" if THEME.palette.name == "paper" else "paper")

    def scale_type(self, factor: float | None) -> None:
        THEME.apply(THEME.palette.name, scale=1.0 if factor is None else THEME.scale * factor)
