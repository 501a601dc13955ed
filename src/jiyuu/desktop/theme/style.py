"""Applies a palette and the shipped faces to the application."""

from __future__ import annotations

from importlib.resources import files

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication, QLayout, QMainWindow, QWidget

from jiyuu.inks import PALETTES, PAPER, Palette

FACE = "B612"  # its figures are all of one width, so that columns of numbers stand
BODY_PX, SMALL_PX = 12, 11
STEP = 4  # spacing comes in multiples of this, px


class Theme(QObject):
    """The palette in force. `changed` is emitted after the application has been restyled.

    The sheet is the window's, not the application's: of an application's Qt polishes every widget once for each of
    those that it stands in, which takes half a second."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.palette: Palette = PAPER
        self.scale = 1.0

    def apply(self, name: str, *, scale: float | None = None) -> None:
        """Restyle the whole application: name 'paper' or 'night', scale of all type."""
        before, self.palette = self.scale, PALETTES[name]
        self.scale = self.scale if scale is None else min(max(scale, 0.85), 2.0)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setFont(self.font())
        app.setPalette(_qt_palette(self.palette))
        for window in app.topLevelWidgets():
            if isinstance(window, QMainWindow):
                self.dress(window)
                if self.scale != before:  # layouts of pages that are not in sight keep the old type's sizes
                    for layout in window.findChildren(QLayout):
                        layout.invalidate()
        self.changed.emit()

    def dress(self, window: QWidget) -> None:
        """Lay the style in force on a window and whatever is opened from it."""
        window.setStyleSheet(_style_sheet(self))

    def px(self, size: float) -> int:
        return max(11, round(size * self.scale))

    def font(self, *, px: float = BODY_PX, bold: bool = False) -> QFont:
        face = QFont(FACE)
        face.setPixelSize(self.px(px))
        face.setBold(bold)
        return face


THEME = Theme()


def load_faces() -> None:
    """Register the shipped faces, so that the window looks the same where no fonts are installed."""
    folder = files("jiyuu.desktop.theme").joinpath("fonts")
    for entry in folder.iterdir():
        if entry.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(entry.read_bytes())


def _qt_palette(p: Palette) -> QPalette:
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: p.ground, QPalette.ColorRole.Base: p.raised, QPalette.ColorRole.Button: p.raised,
        QPalette.ColorRole.WindowText: p.ink, QPalette.ColorRole.Text: p.ink, QPalette.ColorRole.ButtonText: p.ink,
        QPalette.ColorRole.ToolTipBase: p.raised, QPalette.ColorRole.ToolTipText: p.ink,
        QPalette.ColorRole.AlternateBase: p.ground, QPalette.ColorRole.Highlight: p.ink,
        QPalette.ColorRole.HighlightedText: p.ground, QPalette.ColorRole.PlaceholderText: p.quiet,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    return palette


def _style_sheet(theme: Theme) -> str:
    p = theme.palette
    return f"""
    QWidget {{ color: {p.ink}; }}
    QMainWindow, QMenuBar, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {p.ground}; }}
    QMenuBar {{ border: none; padding: 0 {STEP}px; }}
    QMenuBar::item {{ padding: 2px {2 * STEP}px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {p.ink}; color: {p.ground}; }}
    QMenu {{ background: {p.raised}; border: 1px solid {p.strong_rule}; padding: {STEP}px; }}
    QMenu::item {{ padding: 3px {5 * STEP}px 3px {3 * STEP}px; }}
    QMenu::item:disabled {{ color: {p.quiet}; }}
    QToolTip {{ background: {p.raised}; color: {p.ink}; border: 1px solid {p.strong_rule}; padding: {STEP}px; }}
    QPushButton {{ background: {p.raised}; border: 1px solid {p.edge}; border-radius: 0; padding: 3px {2 * STEP}px; }}
    QPushButton:hover {{ border-color: {p.ink}; }}
    QPushButton:focus, QLineEdit:focus, QComboBox:focus, QSpinBox:focus, QListWidget:focus {{
        border: 2px solid {p.ink}; }}
    QPushButton:pressed {{ background: {p.rule}; }}
    QPushButton:disabled {{ color: {p.quiet}; border-color: {p.rule}; }}
    QPushButton[main="true"] {{ background: {p.ink}; color: {p.ground}; border-color: {p.ink}; }}
    QPushButton[main="true"]:disabled {{ background: {p.rule}; color: {p.quiet}; border-color: {p.rule}; }}
    QPushButton[main="true"]:focus {{ border: 2px solid {p.attention}; }}
    QPushButton[role="page"] {{ border: none; border-bottom: 2px solid transparent; background: transparent;
        padding: 1px {STEP}px; color: {p.quiet}; }}
    QPushButton[role="sound"]:checked {{ background: {p.chosen}; border: 2px solid {p.ink}; font-weight: bold; }}
    QPushButton[role="page"]:checked {{ border-bottom: 2px solid {p.ink}; color: {p.ink}; font-weight: bold; }}
    QPushButton[role="page"]:focus {{ border: 1px dotted {p.ink}; }}
    QCheckBox {{ spacing: {STEP}px; }}
    QCheckBox::indicator {{ width: 11px; height: 11px; border: 1px solid {p.quiet}; background: {p.raised}; }}
    QCheckBox::indicator:checked {{ background: {p.ink}; }}
    QCheckBox:focus {{ border: 1px dotted {p.ink}; }}
    QLineEdit, QComboBox, QSpinBox {{ background: {p.raised}; border: 1px solid {p.edge}; border-radius: 0;
        padding: 2px {STEP}px; selection-background-color: {p.ink};
        selection-color: {p.ground}; }}
    QLineEdit:disabled, QComboBox:disabled {{
        color: {p.quiet}; background: {p.ground}; border-color: {p.strong_rule}; }}
    QLineEdit[wrong="true"] {{ border: 2px solid {p.attention}; }}
    QComboBox::drop-down {{ border: none; width: 14px; }}
    QComboBox QAbstractItemView {{ background: {p.raised}; border: 1px solid {p.strong_rule}; }}
    QListWidget {{ background: {p.raised}; border: 1px solid {p.edge}; }}
    QListWidget[role="notes"]::item {{ padding: {STEP}px; border-bottom: 1px solid {p.rule}; }}
    QListWidget[role="notes"]::item:selected {{ background: {p.chosen}; color: {p.ink}; }}
    QProgressBar {{ background: {p.raised}; border: 1px solid {p.edge}; height: 6px; border-radius: 0; }}
    QProgressBar::chunk {{ background: {p.ink}; }}
    QLabel[role="heading"] {{ font-weight: bold; }}
    QLabel[role="quiet"] {{ color: {p.quiet}; font-size: {theme.px(SMALL_PX)}px; }}
    QLabel[role="message"] {{ background: {p.raised}; border-left: 4px solid {p.ink}; }}
    QLabel[role="error"] {{ background: {p.raised}; border-left: 4px solid {p.attention}; }}
    QTableWidget {{ background: {p.raised}; border: 1px solid {p.edge}; gridline-color: {p.rule};
        selection-background-color: {p.chosen}; selection-color: {p.ink}; }}
    QHeaderView::section {{ background: {p.ground}; border: none; border-bottom: 1px solid {p.strong_rule};
        padding: 2px {STEP}px; color: {p.quiet}; text-align: left; }}
    QTableWidget::item:focus, QTableWidget::item:selected {{ background: {p.chosen}; color: {p.ink}; }}
    QTableWidget:focus {{ border: 2px solid {p.ink}; }}
    QSlider::groove:horizontal {{ height: 2px; background: {p.edge}; }}
    QSlider::handle:horizontal {{ width: 8px; margin: -7px 0; background: {p.ink}; }}
    QSlider:focus {{ border: 1px dotted {p.ink}; }}
    QScrollBar:vertical {{ background: {p.ground}; width: 8px; }}
    QScrollBar::handle:vertical {{ background: {p.edge}; min-height: 24px; }}
    QScrollBar::handle:vertical:disabled {{ background: {p.ground}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar:horizontal {{ background: {p.ground}; height: 8px; }}
    QScrollBar::handle:horizontal {{ background: {p.edge}; min-width: 24px; }}
    """
