"""Every colour and size of the window. Nothing else in the package names one."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Palette:
    """Colours by meaning: paper, ink, oak and wine.

    Attributes:
        paper, card, line: the window, the columns, and the edges between them.
        frame: the edge of what can be typed in or pressed.
        ink, soft: text and second text.
        wine, wine_deep, on_wine: the one button, fillings, its pressed state, text on it.
        wine_wash: what is chosen.
        oak, oak_wash: folders and archives; the gauge's outline and the archive's step in the path.
        moss: new or whole. amber: in the way or missing. slate: limits, links, information.
    """

    paper: str
    card: str
    line: str
    frame: str
    ink: str
    soft: str
    wine: str
    wine_deep: str
    on_wine: str
    wine_wash: str
    oak: str
    oak_wash: str
    moss: str
    amber: str
    slate: str


LIGHT = Palette(
    paper="#F6F3EC",
    card="#FFFDF8",
    line="#DDD5C6",
    frame="#93897A",
    ink="#26221C",
    soft="#665F53",
    wine="#7A2E45",
    wine_deep="#5F2135",
    on_wine="#FFFDF8",
    wine_wash="#EBD9DC",
    oak="#9E6F33",
    oak_wash="#F1E3CB",
    moss="#3F6C42",
    amber="#8A5209",
    slate="#3F5B73",
)

DARK = Palette(
    paper="#1D1B19",
    card="#262320",
    line="#3D3832",
    frame="#7F776C",
    ink="#EDE6DA",
    soft="#ADA495",
    wine="#C4677F",
    wine_deep="#D58298",
    on_wine="#1D1B19",
    wine_wash="#4A2A34",
    oak="#CF9F5F",
    oak_wash="#43361F",
    moss="#8DBB8B",
    amber="#E0A14A",
    slate="#8FB0CB",
)


_FIXED = ("edge", "ring", "stack_below", "window_width", "window_height", "window_least", "from_least")
_SPACING = ("space", "gap", "wide", "column_corner", "corner", "mark", "bar", "dot", "preview", "progress_width")


@dataclass(frozen=True, slots=True)
class Sizes:
    """Lengths in pixels at 100 % text; :meth:`scaled` gives those for other text sizes.

    Attributes:
        edge, ring: how thick the edge of a control is, without and with the focus.
    """

    body: int = 13
    small: int = 11
    statement: int = 17
    space: int = 4
    gap: int = 8
    wide: int = 16
    column_corner: int = 10
    corner: int = 6
    icon: int = 16
    caret: int = 12
    choose: int = 24
    row: int = 28
    tick: int = 14
    bar: int = 8
    control: int = 32
    button: int = 44
    gauge: int = 64
    chart: int = 190
    chart_least: int = 126
    chart_left: int = 58
    chart_below: int = 36
    dot: int = 7
    thumb: int = 112
    preview: int = 220
    edge: int = 1
    ring: int = 2
    mark: int = 3
    indent: int = 18
    kinds_from: int = 720
    times_from: int = 480
    shares_from: int = 420
    from_least: int = 360
    how_least: int = 270
    to_least: int = 240
    stack_below: int = 1000
    window_width: int = 1280
    window_height: int = 800
    window_least: int = 500
    progress_width: int = 200
    settings_width: int = 760

    def scaled(self, factor: float) -> Sizes:
        """The same for text of ``factor`` times the size; the borders of the window stay, and spacing grows less."""
        if factor == 1:
            return self
        share = dict.fromkeys(_FIXED, 0.0) | dict.fromkeys(_SPACING, 0.3)
        return Sizes(**{k: round(v * (1 + (factor - 1) * share.get(k, 1.0))) for k, v in asdict(self).items()})
