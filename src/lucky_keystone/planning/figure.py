"""Draws a planned drive to scale, for someone who has never seen a partition table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from textwrap import shorten

from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.patches import Polygon, Rectangle

from ..errors import UsageError, naming
from ..invoker import give_to_user
from ..units import exact_size, shown_size, sold_size
from .plan import Area, Plan, without_repeats
from .volumes import SHOWN

_INK, _QUIET, _PAPER = "#1d2b2f", "#66757a", "#fbfaf6"
_COLOURS = {
    "seal": "#b3432b",
    "GPT": "#c9713f",
    "manifest": "#d9a441",
    "boot sectors": "#7a5c99",
    "FATs": "#3f7d8c",
    "file table": "#3f7d8c",
    "log": "#9fb8bd",
    "cluster map": "#6d98a3",
    "starter": "#4f6fa8",
    "crossing": "#4f6fa8",
    "folders": "#8aa84f",
    "files": "#2f6b4f",
    "kept clear": "#f3f1ea",
    "free": "#e3e0d3",
    "not used": "#ffffff",
}
_VERDICTS = {"starts": "#2f6b4f", "will not start": "#b3432b", "not known": "#8c8567"}
_MEANING = {
    "seal": "first sector: table or its guard, first boot code",
    "GPT": "the partition table; its copy ends the drive",
    "manifest": "fingerprints, to check the drive later",
    "kept clear": "so that the partition starts at a whole MiB",
    "boot sectors": "code that old firmware (BIOS) starts",
    "FATs": "which pieces belong to which file, twice",
    "file table": "a record for each file: names and places",
    "log": "where systems note what they are about to change",
    "folders": "names and places of the files",
    "files": "the installer's files",
    "free": "room for your own files",
    "not used": "outside the partition",
}
_LIGHT = ("kept clear", "free", "not used")
_LARGEST = 6


def draw_plan(plan: Plan, path: Path) -> None:
    """Write the drawing to `path` as .png or .svg (about 1280 by 800 points). Raises UsageError for other endings."""
    ending = path.suffix.lower()
    if ending not in (".png", ".svg"):
        raise UsageError(f"{path.name}: figures are drawn as .png or .svg.", advice="End the name in one of the two.")
    figure = Figure(figsize=(12.8, 8.0), facecolor=_PAPER)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, 100)
    axes.set_ylim(0, 100)
    axes.axis("off")
    _heading(axes, plan)
    _whole_drive(axes, plan)
    _beginning(axes, plan)
    _files(axes, plan)
    _forecast(axes, plan)
    canvas = FigureCanvasAgg(figure) if ending == ".png" else FigureCanvasSVG(figure)
    with (
        naming(str(path), UsageError, advice="Choose a place where the figure can be written."),
        path.open("wb") as stream,
    ):
        give_to_user(path)
        if isinstance(canvas, FigureCanvasAgg):
            canvas.print_png(stream)  # type: ignore[no-untyped-call]
        else:
            canvas.print_svg(stream, metadata={"Date": None})  # type: ignore[no-untyped-call]


_LEFT, _WIDTH = 5.0, 90.0
_HAIR = 0.22  # the thinnest that is drawn: a sector would not be seen at all


def _heading(axes: Axes, plan: Plan) -> None:
    size = plan.drive.size or 0
    axes.text(
        _LEFT, 94.5, f"The drive '{plan.drive.name}' as it will be", fontsize=19, color=_INK, weight="bold", va="center"
    )
    axes.text(
        _LEFT,
        90.3,
        f"{sold_size(size)} as sold, {shown_size(size)} as shown by systems  ·  "
        f"volume '{plan.choices.label}'  ·  built from {plan.source.path.name}",
        fontsize=11.5,
        color=_QUIET,
        va="center",
    )


def _bar(
    axes: Axes, areas: Sequence[Area], start: int, end: int, bottom: float, height: float
) -> list[tuple[Area, float, float]]:
    """Draw `areas` to scale between `_LEFT` and the right margin; return each with its left and right end."""
    scale = _WIDTH / max(end - start, 1)
    placed = []
    for area in reversed(areas):  # thin ones in front stay on top
        left = _LEFT + (max(area.offset, start) - start) * scale
        right = max(_LEFT + (min(area.offset + area.size, end) - start) * scale, left + _HAIR)
        edge = _QUIET if area.name in _LIGHT else _COLOURS[area.name]
        axes.add_patch(
            Rectangle(
                (left, bottom), right - left, height, facecolor=_COLOURS[area.name], edgecolor=edge, linewidth=0.6
            )
        )
        placed.append((area, left, right))
    return placed


def _whole_drive(axes: Axes, plan: Plan) -> None:
    size = plan.drive.size or 1
    axes.text(_LEFT, 85, "The whole drive, to scale", fontsize=13, color=_INK, weight="bold", va="center")
    for area, left, right in _bar(axes, plan.areas, 0, size, 71, 10):
        if right - left > 7:
            light = area.name in _LIGHT
            axes.text(
                (left + right) / 2,
                77.2,
                area.name,
                ha="center",
                va="center",
                fontsize=12,
                color=_INK if light else "white",
                weight="bold",
            )
            axes.text(
                (left + right) / 2,
                73.8,
                shown_size(area.size),
                ha="center",
                va="center",
                fontsize=10.5,
                color=_INK if light else "white",
            )
    start = next(area.offset for area in plan.areas if area.name == "boot sectors")
    first, *further = plan.volumes
    _bracket(axes, start, first.end, size)
    kind = "basic data" if plan.choices.table == "gpt" else "active"
    told = f"partition 1, {kind}: the {SHOWN[first.file_system]} volume '{plan.choices.label}' that systems show"
    for second in further:
        _bracket(axes, second.start, second.end, size)
        told += f"  ·  partition 2: FAT32, {_SECOND[second.role]}"
    axes.text(
        _LEFT + plan.volumes[-1].end * _WIDTH / size, 83.9, told, fontsize=10, color=_INK, va="center", ha="right"
    )


_SECOND = {"starter": "what firmware starts from", "crossing": "our UEFI helper, the crossing"}


def _bracket(axes: Axes, start: int, end: int, size: int) -> None:
    left, right = _LEFT + start * _WIDTH / size, _LEFT + end * _WIDTH / size
    axes.plot([left, left, right, right], [81.6, 82.4, 82.4, 81.6], color=_INK, linewidth=1)


def _beginning(axes: Axes, plan: Plan) -> None:
    """The first part, enlarged: everything in front of the files is too thin to be seen on the whole drive."""
    unnamed = {"files", "free", "not used", "starter", "crossing", "cluster map"}  # six of the others have room
    if plan.volumes[0].file_system == "ntfs":
        unnamed |= {"kept clear", "GPT"}
    elif plan.choices.table == "gpt":
        unnamed.add("kept clear")
    small = [area for area in plan.areas if area.name not in unnamed]
    end = max(area.offset + area.size for area in small)
    end += max((end - small[0].offset) // 12, 1)
    reach = _LEFT + _WIDTH * min(end / (plan.drive.size or 1), 1.0)
    axes.add_patch(
        Polygon([(_LEFT, 71), (reach, 71), (_LEFT + _WIDTH, 60), (_LEFT, 60)], facecolor="#ece8da", edgecolor="none")
    )
    axes.text(
        _LEFT,
        64.2,
        f"Its beginning enlarged: the first {shown_size(end)}",
        fontsize=13,
        color=_INK,
        weight="bold",
        va="center",
    )
    shown = [area for area in plan.areas if area.offset < end]
    _bar(axes, shown, 0, end, 53, 7)
    for number, area in enumerate(small):
        column, row = number % 3, number // 3
        x, y = _LEFT + column * 30.5, 48.4 - row * 5.2
        axes.add_patch(Rectangle((x, y - 1.1), 1.6, 2.4, facecolor=_COLOURS[area.name], edgecolor="none"))
        axes.text(
            x + 2.4,
            y + 0.9,
            f"{area.name}, {shown_size(area.size)}",
            fontsize=10.5,
            color=_INK,
            va="center",
            weight="bold",
        )
        axes.text(x + 2.4, y - 1.4, _MEANING[area.name], fontsize=9.5, color=_QUIET, va="center")


def _files(axes: Axes, plan: Plan) -> None:
    axes.text(_LEFT, 36.6, "The largest files", fontsize=13, color=_INK, weight="bold", va="center")
    files = sorted(plan.tree.files(), key=lambda item: (-item[1].size, item[0]))[:_LARGEST]
    top = max((file.size for _, file in files), default=1) or 1
    parts = {name for split in plan.splits for name, _ in split.parts}
    for number, (path, file) in enumerate(files):
        y = 32.6 - number * 3.1
        axes.add_patch(
            Rectangle((_LEFT + 24, y - 0.9), 14 * file.size / top, 1.8, facecolor=_COLOURS["files"], edgecolor="none")
        )
        name = path if len(path) <= 34 else "…" + path[-33:]
        axes.text(_LEFT, y, name, fontsize=10, color=_INK, va="center")
        note = "  (a part)" if file.name in parts else ""
        axes.text(
            _LEFT + 25 + 14 * file.size / top, y, shown_size(file.size) + note, fontsize=9.5, color=_QUIET, va="center"
        )
    count, total = sum(1 for _ in plan.tree.files()), sum(file.size for _, file in plan.tree.files())
    axes.text(
        _LEFT,
        32.6 - len(files) * 3.1,
        f"{count:,} files, {shown_size(total)} in all; free afterwards {shown_size(plan.free)}",
        fontsize=10,
        color=_QUIET,
        va="center",
    )
    axes.text(
        _LEFT,
        5.2,
        f"Needed: {exact_size(plan.needed)}. Available: {exact_size(plan.drive.size or 0)}.",
        fontsize=10.5,
        color=_INK,
        va="center",
    )


def _forecast(axes: Axes, plan: Plan) -> None:
    left = 55.0
    axes.text(left, 36.6, "Where it will start", fontsize=13, color=_INK, weight="bold", va="center")
    for number, row in enumerate(without_repeats(plan.forecast)):
        y = 33.0 - number * 4.45
        axes.add_patch(Rectangle((left, y - 1.3), 10.5, 2.8, facecolor=_VERDICTS[row.verdict], edgecolor="none"))
        axes.text(
            left + 5.25, y + 0.05, row.verdict, fontsize=9.5, color="white", ha="center", va="center", weight="bold"
        )
        axes.text(left + 11.5, y + 0.9, row.firmware, fontsize=10.5, color=_INK, va="center", weight="bold")
        told = shorten(row.reason, 58, placeholder=" …")
        axes.text(left + 11.5, y - 1.3, told, fontsize=8.8, color=_QUIET, va="center")
