"""Rundlet's own mark: a cask lying on its side, partly filled."""

from __future__ import annotations

from pathlib import Path

APP_ID = "rundlet"


def icon_path(name: str = APP_ID) -> Path:
    """Where a drawing of ours lies, as SVG."""
    return Path(__file__).parent / "data" / f"{name}.svg"
