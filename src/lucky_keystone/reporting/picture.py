"""The page as a picture: one sheet of A4, upright, 150 points an inch; of a crowded one the print gets smaller."""

from __future__ import annotations

import io
from functools import cache
from typing import Any, Literal

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import Rectangle
from matplotlib.textpath import TextPath
from msgspec import Struct, field

from ..common.outputs import MAKER
from ..drawing.looks import SIGNS, look_of
from .html import room_of
from .page import Facts, Page, Picture, Section, Verdicts, Words

_DPI = 150
_WIDTH, _HEIGHT = 1240, 1754
"""Dots of A4 (210 by 297 mm); y counts downwards."""
_LEFT, _RIGHT, _TOP, _BOTTOM = 80, 1160, 64, 1700
_SIZES = (10.0, 9.0, 8.0, 7.0, 6.0, 5.0)
"""Points of the print: the first that everything fits in."""
_SETTINGS: Any = {"text.parse_math": False, "hatch.linewidth": 0.7}  # a '$' in a name is a letter like any other
_INK, _QUIET, _LINE = "#1d2b2f", "#4d5c60", "#b9b5a6"
_HINTED = 1.03
"""What is drawn is a little wider than its outlines: letters begin at whole dots."""
Weight = Literal["normal", "bold"]


def png_of(page: Page) -> bytes:
    """Return the page as a PNG of 1240 by 1754 dots."""
    with rc_context(_SETTINGS):
        for size in _SIZES:
            figure, end = _drawn(page, size)
            if end <= _BOTTOM:
                break
        stream = io.BytesIO()
        FigureCanvasAgg(figure).print_png(stream, metadata={"Software": MAKER})  # type: ignore[no-untyped-call]
    return stream.getvalue()


def _drawn(page: Page, size: float) -> tuple[Figure, float]:
    """Return the sheet, and how far down it is filled."""
    figure = Figure(figsize=(_WIDTH / _DPI, _HEIGHT / _DPI), dpi=_DPI, facecolor="white")
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, _WIDTH)
    axes.set_ylim(_HEIGHT, 0)
    axes.axis("off")
    sheet = _Sheet(axes, size)
    sheet.write(page.title, size=size * 1.9, weight="bold")
    sheet.y += sheet.line * 0.3
    sheet.write(page.subtitle, colour=_QUIET)
    sheet.boxed(f"{'✓' if page.is_good else '✗'} {page.result}", double=not page.is_good)
    for section in page.sections:
        sheet.section(section)
    sheet.y += sheet.line / 2
    sheet.write(page.closing, colour=_QUIET)
    return figure, sheet.y


class _Sheet(Struct):
    """The sheet, filled from top to bottom."""

    axes: Axes
    size: float
    y: float = field(default=_TOP)

    @property
    def line(self) -> float:
        """Dots from one line to the next."""
        return self.size * _DPI / 72 * 1.38

    def write(
        self,
        words: str,
        *,
        x: float = _LEFT,
        width: float = 0,
        size: float = 0,
        colour: str = _INK,
        weight: Weight = "normal",
    ) -> None:
        """Write a paragraph, in as many lines as it takes, and go below it."""
        size = size or self.size
        for line in _wrapped(words, width or _RIGHT - x, size, weight):
            self.y += size * _DPI / 72 * 1.38
            self.axes.text(x, self.y, line, fontsize=size, color=colour, weight=weight, va="baseline")

    def boxed(self, words: str, *, double: bool) -> None:
        top = self.y + self.line * 0.7
        self.y += self.line * 0.9
        self.write(words, x=_LEFT + 16, width=_RIGHT - _LEFT - 32, weight="bold")
        self.y += self.line * 0.6
        for inset in (0, 5) if double else (0,):
            self.axes.add_patch(
                Rectangle(
                    (_LEFT + inset, top + inset),
                    _RIGHT - _LEFT - 2 * inset,
                    self.y - top - 2 * inset,
                    fill=False,
                    edgecolor=_INK,
                    linewidth=1.3,
                )
            )

    def section(self, section: Section) -> None:
        self.y += self.line * 0.55
        self.write(section.heading, size=self.size * 1.12, weight="bold")
        self.y += self.line * 0.3
        self.axes.plot([_LEFT, _RIGHT], [self.y, self.y], color=_LINE, linewidth=0.7)
        match section:
            case Words():
                for words in section.paragraphs:
                    self.write(words)
            case Facts():
                for name, value in section.rows:
                    self._row((_LEFT, 200, name, "normal"), (_LEFT + 215, 0, value, "normal"))
            case Verdicts():
                for who, verdict, why in section.rows:
                    sign = (_LEFT, 30, SIGNS[verdict], "bold")
                    self._row(
                        sign, (_LEFT + 36, 165, verdict, "bold"), (_LEFT + 205, 265, who, "normal"),
                        (_LEFT + 480, 0, why, "normal"),
                    )  # fmt: skip
            case Picture():
                self._picture(section)

    def _row(self, *cells: tuple[float, float, str, str]) -> None:
        """Write cells (x, width, words, weight) beside each other, and go below the longest."""
        top = lowest = self.y
        for x, width, words, weight in cells:
            self.y = top
            self.write(words, x=x, width=width, weight=weight)  # type: ignore[arg-type]
            lowest = max(lowest, self.y)
        self.y = lowest

    def _picture(self, picture: Picture) -> None:
        scale, height, top = (_RIGHT - _LEFT) / max(picture.size, 1), 44, self.y + 14
        frame = Rectangle((_LEFT, top), _RIGHT - _LEFT, height, facecolor="white", edgecolor=_QUIET, linewidth=1)
        self.axes.add_patch(frame)
        after = float(_LEFT)
        for each in picture.blocks:
            if not each.number:
                continue
            left = _LEFT + each.start * scale
            wide = min(max(each.size * scale, 4), _RIGHT - left)
            look = look_of(each.kind)
            used = min(max(each.used * scale, 4), wide)
            self.axes.add_patch(
                Rectangle(
                    (left, top), used, height, facecolor=look.colour, edgecolor="white", hatch=look.hatch, linewidth=0
                )
            )
            self.axes.add_patch(Rectangle((left, top), wide, height, fill=False, edgecolor=look.colour, linewidth=1.4))
            at = min(max(left + wide / 2, after), _RIGHT - 10)
            after = at + 30
            self.axes.text(
                at, top + height + 20, each.number, fontsize=self.size, color=_INK, weight="bold", ha="center"
            )
        self.y = top + height + 26
        for each in picture.blocks:
            number = (_LEFT, 30, each.number or "-", "bold")
            self._row(number, (_LEFT + 36, 480, each.name, "normal"), (_LEFT + 540, 0, room_of(each), "normal"))


def _wrapped(words: str, width: float, size: float, weight: str) -> list[str]:
    """Divide a text into lines of `width` dots; a word that is longer than a line is cut where it ends."""
    lines, line, used = [], "", 0.0
    space = _measured(" ", size, weight)
    for word in words.split(" "):
        piece = word
        length = _measured(piece, size, weight)
        if line and used + space + length > width:
            lines.append(line)
            line, used = "", 0.0
        while length > width and len(piece) > 1:
            fits = max(int(len(piece) * width / length), 1)
            while fits > 1 and _measured(piece[:fits], size, weight) > width:
                fits -= 1
            lines.append(piece[:fits])
            piece = piece[fits:]
            length = _measured(piece, size, weight)
        used += (space if line else 0) + length
        line = f"{line} {piece}" if line else piece
    return [*lines, line]


def _measured(words: str, size: float, weight: str) -> float:
    """Return the width of a text in dots, by the widths of its letters."""
    return sum(_advance(letter, weight) for letter in words) * size * _DPI / 72 * _HINTED


@cache
def _advance(letter: str, weight: str) -> float:
    """Return the width of a letter, of print one point high: of two around it less than of those two alone."""
    font = FontProperties(weight=weight)
    around, alone = (TextPath((0, 0), text, size=100, prop=font).get_extents().width for text in (f"H{letter}H", "HH"))
    return float(around - alone) / 100
