"""Every colour and size of the window. Nothing else in the package names one."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Palette:
    """Colours by meaning: paper, ink, oak and wine.

    Attributes:
        paper, card, line: the window, the columns, edges.
        ink, soft: text and second text.
        wine, wine_deep, on_wine: the one button, fillings, its pressed state, text on it.
        wine_wash: what is chosen.
        oak, oak_wash: folders and archives; the gauge's outline and the archive's step in the path.
        moss: new or whole. amber: in the way or missing. slate: limits, links, information.
    """

    paper: str
    card: str
    line: str
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
    ink="#26221C",
    soft="#6E675B",
    wine="#7A2E45",
    wine_deep="#5F2135",
    on_wine="#FFFDF8",
    wine_wash="#EBD9DC",
    oak="#A9783A",
    oak_wash="#F1E3CB",
    moss="#3F6C42",
    amber="#96590B",
    slate="#3F5B73",
)

DARK = Palette(
    paper="#1D1B19",
    card="#262320",
    line="#3D3832",
    ink="#EDE6DA",
    soft="#A89F90",
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


@dataclass(frozen=True, slots=True)
class Sizes:
    """Lengths in pixels at 100 % text; :meth:`scaled` gives those for other text sizes."""

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
    chart_left: int = 58
    chart_below: int = 36
    dot: int = 7
    thumb: int = 112
    preview: int = 220
    edge: int = 1
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

    def scaled(self, factor: float) -> Sizes:
        """The same for text of ``factor`` times the size; the borders of the window stay."""
        if factor == 1:
            return self
        fixed = {"edge", "stack_below", "window_width", "window_height", "window_least", "from_least"}
        return Sizes(**{k: v if k in fixed else round(v * factor) for k, v in asdict(self).items()})
