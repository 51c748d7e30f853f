"""Draws a planned drive to scale, for someone who has never seen a partition table.

Made to be read at half its size and without colour: few words, none small; what differs has a number and a hatching.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import Rectangle
from matplotlib.textpath import TextPath
from msgspec import Struct, field

from ..common.errors import UsageError
from ..common.outputs import MAKER, NOTHING_ELSE, OutputKind, Replacing, write_output
from ..common.units import shown_size
from ..drawing.areas import DrawnBlock
from ..drawing.looks import SIGNS, look_of
from .plan import Plan
from .sketch import Sketch, Start, sketch

WIDTH, HEIGHT = 1280, 800  # points of the drawing; y counts downwards
_LEFT, _RIGHT = 56, 1224
_SMALL, _PLAIN, _HEAD, _TITLE = 13.5, 13.5, 15.5, 21.0
_LINE = 27
_DPI = 100
_SETTINGS: Any = {"text.parse_math": False, "hatch.linewidth": 0.7}  # a '$' in a name is a letter like any other
_INK, _QUIET, _PAPER, _EMPTY = "#1d2b2f", "#556468", "#fbfaf6", "#ffffff"
_ROWS = 5
"""Rows of volumes that are named; of more the rest is counted."""
_BESIDE = 32
"""Points between two numbers below a bar."""
_THINNEST = 3
_VERDICTS = {"starts": "#2f6b4f", "will not start": "#a33a24", "not known": "#76704f"}
_PARTS = ("#a33a24", "#d9a441", "#7a5c99", "#3f7d8c", "#8aa84f", "#76704f")


def draw_plan(plan: Plan, path: Path, replacing: Replacing = NOTHING_ELSE) -> None:
    """Write the drawing to `path` as .png or .svg (1280 by 800 points).

    Raises UsageError for other extensions, ProtectError or DriveError where it cannot be written.
    """
    ending = path.suffix.lower()
    if ending not in (".png", ".svg"):
        raise UsageError(f"{path.name}: figures are drawn as .png or .svg.", advice="Use one of these extensions.")
    stream = io.BytesIO()
    with rc_context(_SETTINGS):
        figure = drawn(sketch(plan))
        if ending == ".png":
            FigureCanvasAgg(figure).print_png(stream, metadata={"Software": MAKER})  # type: ignore[no-untyped-call]
        else:
            canvas = FigureCanvasSVG(figure)
            canvas.print_svg(stream, metadata={"Date": None, "Creator": MAKER})  # type: ignore[no-untyped-call]
    write_output(path, stream.getvalue(), OutputKind.FIGURE, replacing)


@rc_context(_SETTINGS)
def drawn(what: Sketch) -> Figure:
    """Return the drawing."""
    figure = Figure(figsize=(WIDTH / _DPI, HEIGHT / _DPI), dpi=_DPI, facecolor=_PAPER)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, WIDTH)
    axes.set_ylim(HEIGHT, 0)
    axes.axis("off")
    page = _Page(axes)
    page.text(what.title, size=_TITLE, weight="bold", down=40)
    page.text(what.subtitle, colour=_QUIET, down=38)
    page.heading("The whole drive, to scale")
    page.bar(what.blocks, what.size, [_look(block.kind) for block in what.blocks])
    _volumes(page, what.blocks)
    if what.beginning:
        page.heading(f"Its beginning, enlarged: the first {shown_size(what.beginning_size)}")
        page.bar(what.beginning, what.beginning_size, [(colour, "") for colour in _PARTS])
        _legend(page, what.beginning)
    if what.why:
        page.heading("Why")
        for words in what.why[:_ROWS]:
            page.text(words)
        page.y += _LINE // 2
    page.heading("Where it will start")
    _starts(page, what.starts)
    axes.text(_LEFT, HEIGHT - 22, page.fitted(what.closing, _RIGHT - _LEFT), fontsize=_PLAIN, color=_INK, va="center")
    return figure


def _look(kind: str) -> tuple[str, str]:
    look = look_of(kind)
    return look.colour, look.hatch


class _Page(Struct):
    """The drawing, filled from top to bottom."""

    axes: Axes
    y: float = field(default=38)

    def text(
        self,
        words: str,
        *,
        x: float = _LEFT,
        width: float = _RIGHT - _LEFT,
        size: float = _PLAIN,
        colour: str = _INK,
        weight: Literal["normal", "bold"] = "normal",
        down: float = _LINE,
    ) -> None:
        """Write a line, shortened to `width` points; the next one is `down` points below."""
        shown = self.fitted(words, width, size, weight)
        self.axes.text(x, self.y, shown, fontsize=size, color=colour, weight=weight, va="center")
        self.y += down

    def heading(self, words: str) -> None:
        self.text(words, size=_HEAD, weight="bold", down=26)

    @staticmethod
    def fitted(words: str, width: float, size: float = _PLAIN, weight: str = "normal") -> str:
        """Return `words`, shortened to `width` points."""
        font = FontProperties(weight=weight)
        if _measured(words, size, font) <= width:
            return words
        while words and _measured(words + " …", size, font) > width:
            words = words[:-1]
        return words.rstrip(" ,;:(") + " …"

    def bar(self, blocks: Sequence[DrawnBlock], size: int, looks: Sequence[tuple[str, str]]) -> None:
        """Draw `blocks` to scale with their numbers below, however narrow they are and however many."""
        scale, height = (_RIGHT - _LEFT) / size, 40
        self.axes.add_patch(
            Rectangle((_LEFT, self.y), _RIGHT - _LEFT, height, facecolor=_EMPTY, edgecolor=_QUIET, linewidth=1)
        )
        centres = []
        for block, (colour, hatch) in zip(blocks, looks, strict=False):
            left = _LEFT + block.start * scale
            wide = min(max(block.size * scale, _THINNEST), _RIGHT - left)
            if block.number:
                self.axes.add_patch(
                    Rectangle((left, self.y), wide, height, facecolor=_EMPTY, edgecolor=colour, linewidth=1.4)
                )
                used = min(max(block.used * scale, _THINNEST), wide)
                self.axes.add_patch(
                    Rectangle(
                        (left, self.y), used, height, facecolor=colour, edgecolor=_EMPTY, hatch=hatch, linewidth=0
                    )
                )
                centres.append((block.number, left + wide / 2))
        for (number, centre), at in zip(centres, _spread([centre for _, centre in centres]), strict=True):
            below = self.y + height
            self.axes.plot([centre, centre, at, at], [below, below + 3, below + 8, below + 11], color=_INK, linewidth=1)
            self.axes.text(at, below + 21, number, fontsize=_SMALL, color=_INK, weight="bold", ha="center", va="center")
        self.y += height + 44


def _spread(centres: Sequence[float]) -> list[float]:
    """Return places for numbers near `centres` (rising), apart from each other and within the bar."""
    places: list[float] = []
    for centre in centres:
        places.append(max(centre, places[-1] + _BESIDE) if places else max(centre, _LEFT + 6))
    most = _RIGHT - 6.0
    for position in range(len(places) - 1, -1, -1):
        places[position] = min(places[position], most)
        most = places[position] - _BESIDE
    return places


def _measured(words: str, size: float, font: FontProperties) -> float:
    """Return the width of a text in points of the drawing."""
    if not words.strip():
        return 0.0
    return float(TextPath((0, 0), words, size=size, prop=font).get_extents().width) * _DPI / 72 + 2


def _volumes(page: _Page, blocks: Sequence[DrawnBlock]) -> None:
    shown = blocks if len(blocks) <= _ROWS else blocks[: _ROWS - 1]
    for block in shown:
        top = page.y
        page.text(block.number or "-", width=20, weight="bold", down=0)
        page.text(block.name, x=_LEFT + 30, width=480, weight="bold", down=0)
        size = shown_size(block.size)
        free = block.size - block.used
        page.text(f"{size}, {shown_size(free)} free" if block.used and free else size, x=580, width=290, down=0)
        page.text(block.note, x=880, width=_RIGHT - 880, colour=_QUIET, down=0)
        page.y = top + _LINE
    if len(shown) < len(blocks):
        rest = blocks[len(shown) :]
        page.text(f"and {len(rest)} more, {shown_size(sum(block.size for block in rest))} in all", x=_LEFT + 30)
    page.y += 10


def _legend(page: _Page, parts: Sequence[DrawnBlock]) -> None:
    rows, top = (len(parts) + 1) // 2, page.y
    for number, (part, colour) in enumerate(zip(parts, _PARTS, strict=False)):
        x = _LEFT + number // rows * 600
        page.y = top + number % rows * (_LINE - 2)
        page.axes.add_patch(Rectangle((x, page.y - 8), 16, 16, facecolor=colour, edgecolor="none"))
        page.text(part.number, x=x + 24, width=18, weight="bold", down=0)
        page.text(f"{part.name}, {shown_size(part.size)}: {part.note}", x=x + 46, width=510, down=0)
    page.y = top + rows * (_LINE - 2) + 10


def _starts(page: _Page, rows: Sequence[Start]) -> None:
    room = int((HEIGHT - 40 - page.y) // _LINE)
    columns = 1 if len(rows) <= room else 2 if len(rows) <= 2 * room else 3
    width, top = (_RIGHT - _LEFT) / columns, page.y
    shown = rows if len(rows) <= columns * room else rows[: columns * room - 1]
    for number, row in enumerate(shown):
        x = _LEFT + number // room * width
        page.y = top + number % room * _LINE
        colour, sign = _VERDICTS[row.verdict], SIGNS[row.verdict]
        page.axes.add_patch(Rectangle((x, page.y - 11), 24, 22, facecolor=colour, edgecolor="none"))
        page.axes.text(x + 12, page.y, sign, fontsize=_PLAIN, color="white", weight="bold", ha="center", va="center")
        words = f"{row.firmware}: {row.verdict}" + (f"; {row.reason}" if columns == 1 else "")
        page.text(words, x=x + 34, width=width - 50, down=0)
    if len(shown) < len(rows):
        page.y = top + len(shown) % room * _LINE
        page.text(f"and {len(rows) - len(shown)} more rows", x=_LEFT + len(shown) // room * width + 34, down=0)
