"""The theme in force: light or dark, as the desktop says or as the person chose, at any text size."""

from __future__ import annotations

from dataclasses import asdict
from importlib import resources
from string import Template

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics, QGuiApplication, QIcon, QPainter, QPalette
from PySide6.QtWidgets import QApplication

from rundlet.core.files.types import Sort
from rundlet.desktop.theme.glyphs import glyph_icon
from rundlet.desktop.theme.tokens import DARK, LIGHT, Palette, Sizes

_GLYPHS = {
    "archive": "database",
    "back": "arrow-left",
    "cancel": "x",
    "find": "magnifying-glass",
    "folder": "folder",
    "home": "house",
    "open": "folder-open",
    "pause": "pause",
    "place": "map-pin",
    "resume": "play",
    "warning": "warning",
    Sort.FOLDERS.name: "folder",
    Sort.ARCHIVES.name: "database",
    Sort.PICTURES.name: "image",
    Sort.TABLES.name: "table",
    Sort.SOUND.name: "speaker-high",
    Sort.FILMS.name: "film-strip",
    Sort.MAPS.name: "map-trifold",
    Sort.TEXT.name: "file-text",
    Sort.DOCUMENTS.name: "article",
    Sort.PROGRAMS.name: "gear",
    Sort.LINKS.name: "link",
    Sort.OTHER.name: "file",
}
# A cylinder on its side is a small cask, which is what a rundlet is.
_LYING = {"archive", Sort.ARCHIVES.name}


class Theme:
    """Colours, lengths and icons; widgets ask it when they paint, so that it can change at any time."""

    def __init__(self) -> None:
        self.palette: Palette = LIGHT
        self.sizes = Sizes()
        self._icons: dict[tuple[str, str], QIcon] = {}

    @property
    def dark(self) -> bool:
        """Whether the dark palette is in force."""
        return self.palette is DARK

    def apply(self, app: QApplication, *, dark: bool | None = None, text_scale: float = 1.0) -> None:
        """Dress the application.

        Args:
            dark: light or dark; None follows the desktop.
            text_scale: 1.0 for the usual text size.
        """
        if dark is None:
            dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        self.palette = DARK if dark else LIGHT
        self.sizes = Sizes().scaled(text_scale)
        self._icons.clear()
        app.setPalette(self._qt_palette())
        app.setStyleSheet(self._style_sheet())

    def _style_sheet(self) -> str:
        template = resources.files(__package__).joinpath("style.qss").read_text("utf-8")
        return Template(template).substitute(asdict(self.palette), **asdict(self.sizes))

    def _qt_palette(self) -> QPalette:
        """Qt's own palette, for what the style sheet does not reach."""
        p, role = self.palette, QPalette.ColorRole
        colours = {
            role.Window: p.paper,
            role.Base: p.card,
            role.AlternateBase: p.paper,
            role.Text: p.ink,
            role.WindowText: p.ink,
            role.Button: p.card,
            role.ButtonText: p.ink,
            role.Highlight: p.wine,
            role.HighlightedText: p.on_wine,
            role.PlaceholderText: p.soft,
            role.ToolTipBase: p.card,
            role.ToolTipText: p.ink,
            role.Accent: p.wine,
        }
        palette = QPalette()
        for which, value in colours.items():
            palette.setColor(which, QColor(value))
        return palette

    def color(self, token: str) -> QColor:
        """A colour by the name of its token."""
        return QColor(getattr(self.palette, token))

    def icon(self, name: str, token: str = "ink") -> QIcon:
        """An icon in a token's colour."""
        key = (name, token)
        if key not in self._icons:
            self._icons[key] = glyph_icon(_GLYPHS[name], self.color(token), turned=name in _LYING)
        return self._icons[key]

    def paint_icon(self, painter: QPainter, rect: QRect, name: str, token: str) -> None:
        """Paint an icon into a rectangle."""
        device = painter.device()
        ratio = device.devicePixelRatioF() if device is not None else 1.0
        painter.drawPixmap(rect, self.icon(name, token).pixmap(rect.size(), ratio))

    def font(self, size: int, *, bold: bool = False) -> QFont:
        """The system's font at a size in pixels."""
        font = QFont(QApplication.font())
        font.setPixelSize(size)
        if bold:
            font.setWeight(QFont.Weight.DemiBold)
        return font

    def text_width(self, text: str) -> int:
        """How wide body text is, in pixels."""
        return QFontMetrics(self.font(self.sizes.body)).horizontalAdvance(text)


theme = Theme()
"""The theme of this process; there is one application, so there is one theme."""
