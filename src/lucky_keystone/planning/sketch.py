"""A planned drive in a few rows: what the figure draws and `plan --layout` prints."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ..common.units import exact_size, shown_size, sold_size
from ..drawing.areas import Area, DrawnBlock, Part
from ..starting.outlook import Verdict, without_repeats
from ..tables.styles import STYLES
from .plan import FittedVolume, Plan

_NAMED = 6
"""Parts of the beginning that are named."""

# What each part is for, and how much it deserves a name where the beginning is enlarged (0: first).
_MEANINGS: dict[Part, tuple[str, int]] = {
    Part.SEAL: ("sector 0, written last: table, boot code", 0),
    Part.MANIFEST: ("hashes, to check the drive later", 1),
    Part.BOOT: ("what firmware reads first", 2),
    Part.FATS: ("which clusters belong to which file", 3),
    Part.FILE_TABLE: ("a record for each file", 3),
    Part.FOLDERS: ("names and places of the files", 4),
    Part.LOG: ("changes that systems are about to make", 5),
    Part.GPT: ("the partition table; a copy ends the drive", 6),
    Part.CLUSTER_MAP: ("which clusters are in use", 8),
    Part.GAP: ("the partition starts at a whole MiB", 7),
}


class Start(Struct, frozen=True):
    """Where it will start."""

    firmware: str
    verdict: Verdict
    reason: str


class Sketch(Struct, frozen=True):
    """A planned drive in a few rows."""

    title: str
    subtitle: str
    size: int
    blocks: tuple[DrawnBlock, ...]
    """The whole drive: its partitions, and what lies outside them where it is worth a row."""
    beginning: tuple[DrawnBlock, ...]
    """The parts in front of the files that are worth a name."""
    beginning_size: int
    """Bytes that the beginning is drawn to; 0 where there is none."""
    why: tuple[str, ...]
    """What was decided about an image that is written as it is."""
    starts: tuple[Start, ...]
    closing: str


def sketch(plan: Plan) -> Sketch:
    """Return what is worth showing of a plan."""
    size = plan.drive.size or 1
    beginning, reach = _beginning(plan)
    return Sketch(
        title=f"The drive '{plan.drive.name}' as it will be",
        subtitle=f"{sold_size(size)} as sold, {shown_size(size)} as shown by systems; from {plan.source.path.name}",
        size=size,
        blocks=tuple(_blocks(plan)),
        beginning=beginning,
        beginning_size=reach,
        why=tuple(f"{decision.topic}: {decision.value}" for decision in plan.decisions) if plan.image else (),
        starts=tuple(Start(row.firmware, row.verdict, row.reason) for row in without_repeats(plan.forecast)),
        closing=f"Needed: {exact_size(plan.needed)}. Available: {exact_size(size)}.",
    )


def _blocks(plan: Plan) -> Iterator[DrawnBlock]:
    if plan.image is not None:
        image = [area for area in plan.areas if area.part in (Part.SEAL, Part.IMAGE)]
        taken = sum(area.size for area in image)
        yield DrawnBlock("1", "image", "the image, byte for byte", 0, taken, taken, "its partitions are its own")
    for number, volume in enumerate(plan.volumes, 1):
        planned = volume.planned
        yield DrawnBlock(
            str(number),
            planned.kind.shown,
            f"{planned.kind.shown} '{planned.label}'",
            planned.start,
            planned.size,
            planned.used_end - planned.start,
            _note(plan, volume),
        )
    for area in plan.areas:
        if area.part is Part.UNUSED and area.size > (plan.drive.size or 1) // 100:
            yield DrawnBlock("", "", area.part.value, area.offset, area.size, 0, area.note)


def _note(plan: Plan, volume: FittedVolume) -> str:
    style, wish = STYLES[plan.table], volume.wish
    mark = f"{style.shown_active}, " if wish.active else ""
    return f"{mark}{style.shown_use(wish.use)}"


def _beginning(plan: Plan) -> tuple[tuple[DrawnBlock, ...], int]:
    """The parts in front of the files: too thin to be seen on the whole drive."""
    if plan.image is not None:
        return (), 0
    known = [area for area in plan.areas if area.part in _MEANINGS and area.size]
    named = sorted(sorted(known, key=lambda area: _MEANINGS[area.part][1])[:_NAMED], key=lambda area: area.offset)
    end = max(area.offset + area.size for area in named)
    letters = iter("abcdefghij")
    return tuple(_part(area, next(letters)) for area in named), end + max((end - named[0].offset) // 12, 1)


def _part(area: Area, letter: str) -> DrawnBlock:
    return DrawnBlock(letter, "", area.name, area.offset, area.size, area.size, _MEANINGS[area.part][0])
