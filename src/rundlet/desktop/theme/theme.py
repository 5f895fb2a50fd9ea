"""The theme in force: light or dark, as the desktop says or as the person chose, at any text size."""

from __future__ import annotations

from dataclasses import asdict
from functools import partial
from pathlib import Path
from string import Template

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QFont, QFontInfo, QFontMetrics, QGuiApplication, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtWidgets import QApplication

from rundlet.core.model.file_type import FileType
from rundlet.desktop.theme.icons import drawn_icon
from rundlet.desktop.theme.tokens import DARK, LIGHT, Palette, Sizes

_DRAWINGS = {
    "archive": "database",
    "back": "arrow-left",
    "cancel": "x",
    "choose": "caret-down",
    "find": "magnifying-glass",
    "folded": "caret-down",
    "folded out": "caret-down",
    "folder": "folder",
    "home": "house",
    "open": "folder-open",
    "pause": "pause",
    "place": "map-pin",
    "log": "clock-counter-clockwise",
    "resume": "play",
    "warning": "warning",
    "list": "rows",
    "thumbs": "squares-four",
    "map": "layout",
    "look": "eye",
    "drive": "hard-drive",
    "favourite": "star",
    "new folder": "folder-plus",
    FileType.FOLDERS.name: "folder",
    FileType.ARCHIVES.name: "database",
    FileType.PICTURES.name: "image",
    FileType.TABLES.name: "table",
    FileType.SOUND.name: "speaker-high",
    FileType.FILMS.name: "film-strip",
    FileType.MAPS.name: "map-trifold",
    FileType.TEXT.name: "file-text",
    FileType.DOCUMENTS.name: "article",
    FileType.PROGRAMS.name: "gear",
    FileType.LINKS.name: "link",
    FileType.OTHER.name: "file",
}
# A cylinder on its side is a small cask, which is what a rundlet is.
_TURNED = {"archive": 90, FileType.ARCHIVES.name: 90, "folded": -90}


class Theme:
    """Colours, lengths and icons; widgets ask it when they paint, so that it can change at any time."""

    def __init__(self) -> None:
        self.palette: Palette = LIGHT
        self.sizes = Sizes()
        self._dark: bool | None = None  # None for what the desktop says
        self._text_scale = 1.0
        self._icons: dict[tuple[str, str], QIcon] = {}
        # While work goes on in other threads, every call of the toolkit costs a turn of the interpreter.
        self._pixmaps: dict[tuple[str, str, int, float], QPixmap] = {}
        self._colours: dict[str, QColor] = {}
        self._fonts: dict[tuple[int, bool], QFont] = {}

    @property
    def dark(self) -> bool:
        """Whether the dark palette is in force."""
        return self.palette is DARK

    def prefer(self, *, look: str, text_size: int) -> None:
        """What the person has chosen, which holds from the next time that it is applied.

        Args:
            look: ``"light"``, ``"dark"``, or ``"desktop"`` to follow it.
            text_size: in percent of the desktop's.
        """
        self._dark = {"light": False, "dark": True}.get(look)
        self._text_scale = text_size / 100

    def apply(
        self, app: QApplication, *, dark: bool | None = None, text_scale: float | None = None, sheet: bool = True
    ) -> None:
        """Dress the application.

        Args:
            dark: light or dark; None for what the person prefers.
            text_scale: 1.0 for the desktop's text size, or ours where that is smaller; None for what the person prefers.
            sheet: whether the style sheet is put on; once it is, putting a window together takes four times as long.
        """
        dark = self._dark if dark is None else dark
        if dark is None:
            dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        self.palette = DARK if dark else LIGHT
        scale = self._text_scale if text_scale is None else text_scale
        self.sizes = Sizes().scaled(scale * max(1.0, QFontInfo(app.font()).pixelSize() / Sizes().body))
        for cache in (self._icons, self._pixmaps, self._colours, self._fonts):
            cache.clear()
        app.setPalette(self._qt_palette())
        if sheet:
            app.setStyleSheet(self._style_sheet())

    def _style_sheet(self) -> str:
        template = Path(__file__).with_name("style.qss").read_text("utf-8")
        sizes = asdict(self.sizes)
        wider = self.sizes.ring - self.sizes.edge  # by which the focus makes an edge thicker; nothing is to move by it
        in_ring = {f"{name}_in_ring": sizes[name] - wider for name in ("space", "gap")}
        in_ring |= {f"{name}_in_ring": sizes[name] - 2 * wider for name in ("control", "row", "icon")}
        return Template(template).substitute(asdict(self.palette), **sizes, **in_ring)

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
        """A colour by the name of its token; a copy is to be made before it is changed."""
        known = self._colours.get(token)
        if known is None:
            known = self._colours[token] = QColor(getattr(self.palette, token))
        return known

    def faint(self, token: str, share: float) -> QColor:
        """A colour that lets through what is behind it."""
        colour = QColor(self.color(token))
        colour.setAlphaF(share)
        return colour

    def icon(self, name: str, token: str = "ink") -> QIcon:
        """An icon in a token's colour."""
        key = (name, token)
        if key not in self._icons:
            self._icons[key] = drawn_icon(_DRAWINGS[name], partial(self.color, token), turned=_TURNED.get(name, 0))
        return self._icons[key]

    def paint_icon(self, painter: QPainter, rect: QRect, name: str, token: str) -> None:
        """Paint an icon into a rectangle."""
        device = painter.device()
        ratio = device.devicePixelRatioF() if device is not None else 1.0
        key = (name, token, rect.width(), ratio)
        pixmap = self._pixmaps.get(key)
        if pixmap is None:
            pixmap = self._pixmaps[key] = self.icon(name, token).pixmap(rect.size(), ratio)
        painter.drawPixmap(rect, pixmap)

    def font(self, size: int, *, bold: bool = False) -> QFont:
        """The system's font at a size in pixels."""
        font = self._fonts.get((size, bold))
        if font is None:
            font = self._fonts[size, bold] = QFont(QApplication.font())
            font.setPixelSize(size)
            if bold:
                font.setWeight(QFont.Weight.DemiBold)
        return font

    def text_width(self, text: str) -> int:
        """How wide body text is, in pixels."""
        return QFontMetrics(self.font(self.sizes.body)).horizontalAdvance(text)


theme = Theme()
"""The theme of this process; there is one application, so there is one theme."""
