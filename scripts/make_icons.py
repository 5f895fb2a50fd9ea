"""Draws the program's icon in the sizes that desktops have for those that take no drawings: src/rundlet/integration/data/*.png."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from rundlet.integration.icons import PIXELS, icon_path, pixel_icon


def main() -> None:
    """Draw all of them."""
    app = QGuiApplication(["make_icons", "-platform", "offscreen"])
    renderer = QSvgRenderer(str(icon_path()))
    for side in PIXELS:
        image = QImage(side, side, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        image.save(str(pixel_icon(side)))
    app.quit()


if __name__ == "__main__":
    main()
