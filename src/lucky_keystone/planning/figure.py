"""Draws a planned drive to scale, for someone who has never seen a partition table."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from textwrap import shorten

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.patches import Polygon, Rectangle

from ..areas import Area, Part
from ..errors import UsageError
from ..outputs import MAKER, NOTHING_ELSE, OutputKind, Replacing, write_output
from ..starting.outlook import without_repeats
from ..tables.styles import STYLES
from ..units import exact_size, shown_size, sold_size
from .plan import Plan

_INK, _QUIET, _PAPER = "#1d2b2f", "#66757a", "#fbfaf6"
_LIGHT = (Part.GAP, Part.FREE, Part.UNUSED)
_VERDICTS = {"starts": "#2f6b4f", "will not start": "#b3432b", "not known": "#8c8567"}
_LARGEST = 6
_NAMED = 6  # parts of the beginning that have room for their names


@dataclass(frozen=True)
class _Look:
    colour: str
    meaning: str
    rank: int = 9
    """Of the parts at the beginning those of the lowest ranks are named."""


_LOOKS = {
    Part.SEAL: _Look("#b3432b", "sector 0, written last: table, first boot code", 0),
    Part.GPT: _Look("#c9713f", "the partition table; its copy ends the drive", 6),
    Part.MANIFEST: _Look("#d9a441", "fingerprints, to check the drive later", 1),
    Part.GAP: _Look("#f3f1ea", "so that the partition starts at a whole MiB", 7),
    Part.BOOT: _Look("#7a5c99", "code that old firmware (BIOS) starts", 2),
    Part.FATS: _Look("#3f7d8c", "which pieces belong to which file, twice", 3),
    Part.FILE_TABLE: _Look("#3f7d8c", "the MFT: a record for each file", 3),
    Part.LOG: _Look("#9fb8bd", "where systems note what they are about to change", 5),
    Part.CLUSTER_MAP: _Look("#6d98a3", "which clusters are in use"),
    Part.FOLDERS: _Look("#8aa84f", "names and places of the files", 4),
    Part.FILES: _Look("#2f6b4f", "the installer's files"),
    Part.VOLUME: _Look("#4f6fa8", "a further volume"),
    Part.IMAGE: _Look("#2f6b4f", "the rest of it, byte for byte"),
    Part.FREE: _Look("#e3e0d3", "room for your own files"),
    Part.UNUSED: _Look("#ffffff", "outside the partitions"),
}


_FEW = 2
"""Partitions that are described in a sentence each."""
_FOR_TWO_LINES = 3.6
"""Height of a row of the forecast that has room for firmware and reason on lines of their own."""


def _drawn(plan: Plan, ending: str) -> FigureCanvasAgg | FigureCanvasSVG:
    figure = Figure(figsize=(12.8, 8.0), facecolor=_PAPER)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(0, 100)
    axes.set_ylim(0, 100)
    axes.axis("off")
    _heading(axes, plan)
    _whole_drive(axes, plan)
    if plan.image is None:
        _beginning(axes, plan)
        _files(axes, plan)
    else:
        _legend(axes, [area for area in plan.areas if area.part != Part.UNUSED], 62.0)
        _about_image(axes, plan)
    _forecast(axes, plan)
    return FigureCanvasAgg(figure) if ending == ".png" else FigureCanvasSVG(figure)


def draw_plan(plan: Plan, path: Path, replacing: Replacing = NOTHING_ELSE) -> None:
    """Write the drawing to `path` as .png or .svg (about 1280 by 800 points).

    Raises UsageError for other endings, ProtectError or DriveError where it cannot be written.
    """
    ending = path.suffix.lower()
    if ending not in (".png", ".svg"):
        raise UsageError(f"{path.name}: figures are drawn as .png or .svg.", advice="End the name in one of the two.")
    with rc_context({"text.parse_math": False}):  # a '$' in a name is a letter like any other
        canvas = _drawn(plan, ending)
    stream = io.BytesIO()
    if isinstance(canvas, FigureCanvasAgg):
        canvas.print_png(stream, metadata={"Software": MAKER})  # type: ignore[no-untyped-call]
    else:
        canvas.print_svg(stream, metadata={"Date": None, "Creator": MAKER})  # type: ignore[no-untyped-call]
    write_output(path, stream.getvalue(), OutputKind.FIGURE, replacing)


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
        f"{_volume_name(plan)}built from {plan.source.path.name}",
        fontsize=11.5,
        color=_QUIET,
        va="center",
    )


def _volume_name(plan: Plan) -> str:
    return f"volume '{plan.main.wish.label}'  ·  " if plan.main else ""


def _bar(
    axes: Axes, areas: Sequence[Area], start: int, end: int, bottom: float, height: float
) -> list[tuple[Area, float, float]]:
    """Draw `areas` to scale between `_LEFT` and the right margin; return each with its left and right end."""
    scale = _WIDTH / max(end - start, 1)
    placed = []
    for area in reversed(areas):  # thin ones in front stay on top
        left = _LEFT + (max(area.offset, start) - start) * scale
        right = max(_LEFT + (min(area.offset + area.size, end) - start) * scale, left + _HAIR)
        edge = _QUIET if area.part in _LIGHT else _LOOKS[area.part].colour
        axes.add_patch(
            Rectangle(
                (left, bottom), right - left, height, facecolor=_LOOKS[area.part].colour, edgecolor=edge, linewidth=0.6
            )
        )
        placed.append((area, left, right))
    return placed


def _whole_drive(axes: Axes, plan: Plan) -> None:
    size = plan.drive.size or 1
    axes.text(_LEFT, 85, "The whole drive, to scale", fontsize=13, color=_INK, weight="bold", va="center")
    for area, left, right in _bar(axes, plan.areas, 0, size, 71, 10):
        if right - left > 7:
            light = area.part in _LIGHT
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
    for volume in plan.volumes:
        _bracket(axes, volume.planned.start, volume.planned.end, size)
    if plan.volumes:
        end, words = plan.volumes[-1].planned.end, "  ·  ".join(_partitions(plan))
    else:
        assert plan.image is not None
        end, words = size, "written byte for byte; its partitions are those of the image"
    axes.text(_LEFT + end * _WIDTH / size, 83.9, words, fontsize=10, color=_INK, va="center", ha="right")


def _partitions(plan: Plan) -> Iterator[str]:
    """Say what each partition is; in few words where there are many."""
    if len(plan.volumes) > _FEW:
        for number, volume in enumerate(plan.volumes, 1):
            yield shorten(f"{number}: {volume.planned.kind.shown} '{volume.planned.label}'", 34, placeholder=" …")
        return
    for number, volume in enumerate(plan.volumes, 1):
        asked, kind = volume.wish, volume.planned.kind
        if asked.takes_rest:
            mark = STYLES[plan.table].shown_active if asked.active else STYLES[plan.table].shown_use(asked.use)
            yield f"partition {number}, {mark}: the {kind.shown} volume '{asked.label}' that systems show"
        else:
            yield f"partition {number}: {kind.shown}, {asked.reason.split(',')[0]}"


def _bracket(axes: Axes, start: int, end: int, size: int) -> None:
    left, right = _LEFT + start * _WIDTH / size, _LEFT + end * _WIDTH / size
    axes.plot([left, left, right, right], [81.6, 82.4, 82.4, 81.6], color=_INK, linewidth=1)


def _beginning(axes: Axes, plan: Plan) -> None:
    """The first part, enlarged: everything in front of the files is too thin to be seen on the whole drive."""
    candidates = [area for area in plan.areas if _LOOKS[area.part].rank < 9]
    small = sorted(candidates, key=lambda area: _LOOKS[area.part].rank)[:_NAMED]
    small.sort(key=lambda area: area.offset)
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
    _legend(axes, small, 48.4)


def _legend(axes: Axes, areas: Sequence[Area], top: float) -> None:
    for number, area in enumerate(areas):
        column, row = number % 3, number // 3
        x, y = _LEFT + column * 30.5, top - row * 5.2
        axes.add_patch(Rectangle((x, y - 1.1), 1.6, 2.4, facecolor=_LOOKS[area.part].colour, edgecolor="none"))
        axes.text(
            x + 2.4,
            y + 0.9,
            f"{area.name}, {shown_size(area.size)}",
            fontsize=10.5,
            color=_INK,
            va="center",
            weight="bold",
        )
        axes.text(x + 2.4, y - 1.4, _LOOKS[area.part].meaning, fontsize=9.5, color=_QUIET, va="center")


def _about_image(axes: Axes, plan: Plan) -> None:
    """What was decided about an image: there are no files of ours to show."""
    axes.text(_LEFT, 36.6, "Why", fontsize=13, color=_INK, weight="bold", va="center")
    for number, decision in enumerate(plan.decisions):
        y = 31.6 - number * 5.3
        axes.text(_LEFT, y + 0.9, f"{decision.topic}: {decision.value}", fontsize=10.5, color=_INK, va="center")
        words = shorten(decision.reason, 78, placeholder=" …")
        axes.text(_LEFT, y - 1.3, words, fontsize=8.8, color=_QUIET, va="center")
    _needed(axes, plan)


def _needed(axes: Axes, plan: Plan) -> None:
    words = f"Needed: {exact_size(plan.needed)}. Available: {exact_size(plan.drive.size or 0)}."
    axes.text(_LEFT, 5.2, words, fontsize=10.5, color=_INK, va="center")


def _files(axes: Axes, plan: Plan) -> None:
    axes.text(_LEFT, 36.6, "The largest files", fontsize=13, color=_INK, weight="bold", va="center")
    files = sorted(plan.tree.files(), key=lambda item: (-item[1].size, item[0]))[:_LARGEST]
    top = max((file.size for _, file in files), default=1) or 1
    parts = {name for split in plan.splits for name, _ in split.parts}
    for number, (path, file) in enumerate(files):
        y = 32.6 - number * 3.1
        axes.add_patch(
            Rectangle(
                (_LEFT + 24, y - 0.9), 14 * file.size / top, 1.8, facecolor=_LOOKS[Part.FILES].colour, edgecolor="none"
            )
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
    _needed(axes, plan)


def _forecast(axes: Axes, plan: Plan) -> None:
    left = 55.0
    axes.text(left, 36.6, "Where it will start", fontsize=13, color=_INK, weight="bold", va="center")
    rows = without_repeats(plan.forecast)
    step = min(5.3, 26 / len(rows))
    height = min(2.8, 0.85 * step)
    for number, row in enumerate(rows):
        y = 31.6 - number * step
        at = left + 11.5
        axes.add_patch(
            Rectangle((left, y - height / 2), 10.5, height, facecolor=_VERDICTS[row.verdict], edgecolor="none")
        )
        size = 9.5 if step > _FOR_TWO_LINES else 8
        axes.text(left + 5.25, y, row.verdict, fontsize=size, color="white", ha="center", va="center", weight="bold")
        if step > _FOR_TWO_LINES:
            axes.text(at, y + 0.9, row.firmware, fontsize=10.5, color=_INK, va="center", weight="bold")
            words = shorten(row.reason, 58, placeholder=" …")
            axes.text(at, y - 1.3, words, fontsize=8.8, color=_QUIET, va="center")
        else:
            words = shorten(f"{row.firmware}: {row.reason}", 60, placeholder=" …")
            axes.text(at, y, words, fontsize=8.8, color=_INK, va="center")
