"""Rundlet's own mark: a cask lying on its side, partly filled."""

from __future__ import annotations

from pathlib import Path

APP_ID = "rundlet"


def icon_path(name: str = APP_ID) -> Path:
    """Where a drawing of ours lies, as SVG."""
    return Path(__file__).parent / "data" / f"{name}.svg"


PIXELS = (16, 22, 24, 32, 48, 64, 128, 256)
"""The sizes that the icon is drawn in beforehand, for desktops that take no drawings."""


def pixel_icon(side: int) -> Path:
    """Where it lies as a picture of so many pixels across and down; ``scripts/make_icons.py`` makes it of the drawing."""
    return Path(__file__).parent / "data" / f"{APP_ID}-{side}.png"
