"""A figure drawn by hand, without a ruler: it can be copied and saved as the others can."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QPainter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.whole_file import write_text, written_whole


class PaintedFigure(QWidget):
    """A kind of figure says its lines in words; its menu copies the picture or the words, or saves either."""

    refused = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self._name = name
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._show_menu)
        THEME.changed.connect(self.update)

    def texts(self) -> tuple[str, ...]:
        """What it says, line by line."""
        raise NotImplementedError

    def rows(self) -> list[tuple[object, ...]]:
        """Its values as a table, names of the columns first."""
        raise NotImplementedError

    def as_csv(self) -> str:
        """The table with numbers in full."""
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows(self.rows())
        return text.getvalue()

    def _show_menu(self, position: QPoint) -> None:
        menu = QMenu(self)
        menu.addAction("Copy picture", self.copy_picture)
        menu.addAction("Copy words", self.copy_words)
        menu.addAction("Save …", self._choose)
        menu.exec(self.mapToGlobal(position))

    def copy_picture(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setPixmap(self.grab())

    def copy_words(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n".join(self.texts()) + "\n")

    def _choose(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, f"Save {self._name.lower()}", f"{self._name.lower()}.svg",
                                              "Figures (*.svg *.png *.csv *.txt)")
        if name:
            try:
                self.save(Path(name))
            except JiyuuError as error:
                self.refused.emit(str(error))

    def save(self, path: Path) -> None:
        """As SVG, PNG, table or words by the ending. Raises JiyuuError for another one."""
        ending = path.suffix.lower()
        if ending == ".txt":
            write_text(path, "\n".join(self.texts()) + "\n")
        elif ending == ".csv":
            write_text(path, self.as_csv())
        elif ending == ".png":
            with written_whole(path) as temporary:
                self.grab().save(str(temporary), "PNG")
        elif ending == ".svg":
            with written_whole(path) as temporary:
                generator = QSvgGenerator()
                generator.setFileName(str(temporary))
                generator.setSize(self.size())
                generator.setViewBox(self.rect())
                generator.setTitle(self._name)
                painter = QPainter(generator)
                self.render(painter)
                painter.end()
        else:
            raise JiyuuError(f"{path.name} has no ending such a figure can have; use .svg, .png, .csv or .txt.")
