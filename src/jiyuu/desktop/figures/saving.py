"""What every figure can do whatever it draws: be copied, be saved whole or not at all, tell its values."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice, QMarginsF, QPoint, QSizeF
from PyQt6.QtGui import QColor, QGuiApplication, QPageLayout, QPageSize, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QMenu, QWidget

from jiyuu.desktop.file_names import chosen_to_write
from jiyuu.desktop.theme.style import THEME
from jiyuu.errors import JiyuuError
from jiyuu.whole_file import write_bytes

PICTURES = (".svg", ".png", ".pdf")
PDF_DPI = 96  # a figure in print is as large as on the screen


class Figure:
    """Beside a widget's class. title: of the figure; `as_csv` and `words` are its values as a table and as lines."""

    title: str

    def as_csv(self, separator: str = ",") -> str:
        """The values as a table, units in the heading; empty where nothing is drawn."""
        raise NotImplementedError

    def words(self) -> tuple[str, ...]:
        """What the figure says, line by line; for whoever cannot see it, too."""
        raise NotImplementedError

    def refuse(self, text: str) -> None:
        """A figure that cannot be saved says so; views connect a signal."""

    def widget(self) -> QWidget:
        assert isinstance(self, QWidget)
        return self

    @property
    def file_stem(self) -> str:
        """A name for a file, from the title: 'level-re-the-input'."""
        return re.sub(r"[^a-z0-9]+", "-", self.title.partition(",")[0].lower()).strip("-") or "figure"

    def copy_picture(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setPixmap(self.widget().grab())

    def copy_values(self) -> None:
        """All values as text with tabs."""
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(self.as_csv("\t"))

    def save(self, path: Path, *, inputs: Iterable[Path] = ()) -> None:
        """As picture, table or words by the ending. Raises JiyuuError for another ending, or a place that cannot be
        written; what stood there before is then untouched."""
        ending = path.suffix.lower()
        if ending in PICTURES:
            data = picture_of(self.widget(), ending, title=self.title)
        elif ending == ".csv":
            data = self.as_csv().encode()
        elif ending == ".txt":
            data = ("\n".join(self.words()) + "\n").encode()
        else:
            raise JiyuuError(f"{path.name} has no ending a figure can have; use .svg, .png, .pdf, .csv or .txt.")
        write_bytes(path, data, inputs=inputs)

    def choose_and_save(self) -> None:
        """Ask for a name and save; what cannot be is said."""
        try:
            path = chosen_to_write(self.widget(), f"Save {self.title}", f"{self.file_stem}.svg",
                                   "Figures (*.svg *.png *.pdf *.csv *.txt)", ending=".svg")
            if path is not None:
                self.save(path)
        except JiyuuError as error:
            self.refuse(str(error))

    def figure_menu(self, position: QPoint, *more: tuple[str, object]) -> None:
        """The context menu of every figure, after what is its own."""
        menu = QMenu(self.widget())
        for text, do in (*more, ("Copy picture", self.copy_picture), ("Copy values", self.copy_values),
                         ("Save …", self.choose_and_save)):
            menu.addAction(text, do)  # type: ignore[call-overload]
        menu.exec(self.widget().mapToGlobal(position))


def picture_of(widget: QWidget, ending: str, *, title: str) -> bytes:
    """A widget as SVG, PNG or PDF, whole in memory before anything is written."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    if ending == ".png":
        if not widget.grab().save(buffer, "PNG"):
            raise JiyuuError("The picture could not be made; try SVG instead.")
    elif ending == ".pdf":
        writer = QPdfWriter(buffer)
        writer.setTitle(title)
        writer.setResolution(PDF_DPI)
        size = QSizeF(widget.width() * 72 / PDF_DPI, widget.height() * 72 / PDF_DPI)
        writer.setPageLayout(QPageLayout(QPageSize(size, QPageSize.Unit.Point), QPageLayout.Orientation.Portrait,
                                         QMarginsF()))
        _painted(widget, writer)
    else:
        generator = QSvgGenerator()
        generator.setOutputDevice(buffer)
        generator.setSize(widget.size())
        generator.setViewBox(widget.rect())
        generator.setTitle(title)
        _painted(widget, generator)
    buffer.close()
    return bytes(buffer.data().data())


def _painted(widget: QWidget, device: QPdfWriter | QSvgGenerator) -> None:
    painter = QPainter(device)
    painter.fillRect(widget.rect(), QColor(THEME.palette.raised))
    widget.render(painter)
    painter.end()
