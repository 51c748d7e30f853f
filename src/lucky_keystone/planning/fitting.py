"""Fitting what a family wishes for onto a drive: sizes, places, room for the manifest, and what lies where.

Nothing here knows a family or a file system: wishes say what they want, kinds say what they need.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..common.errors import DoesNotFit, SourceError, UsageError
from ..common.units import exact_size
from ..content.extents import MIB, align_up
from ..drawing.areas import Area, Part
from ..families.family import DriveShape, DriveWish, VolumeWish
from ..manifest.room import END_ROOM, end_place, manifest_room
from ..tables.styles import STYLES
from ..volumes.kind import Budget, Draft, StandingVolume
from .plan import FittedVolume

_MOST_HOLES = 48  # each ends a region of the manifest, which has room for 64
_ESCAPED = 6
"""Bytes that one takes in JSON at most, as \\u0001 does."""
FROM_SCRATCH = "Build it from scratch, without --update."
STAYS = "An update keeps the volume as it is: its size and clusters cannot be chosen."


class Fitted(Struct, frozen=True):
    """A drive that was measured. Offsets and sizes in bytes."""

    volumes: tuple[FittedVolume, ...]
    manifest_offset: int | None
    manifest_room: int
    drive_size: int
    needed: int
    end: int
    """First byte behind everything that belongs to the wish."""


def fit(wish: DriveWish, drive: DriveShape, use: str) -> Fitted:
    """Give everything that is wished for its place. `use` is 'whole' or 'needed'. Raises UsageError or SourceError."""
    if wish.image is not None:
        return _fit_image(wish.image.content.size, drive)
    style, sector = STYLES[wish.table], drive.sector_size
    if len(wish.volumes) > style.most:
        raise UsageError(
            f"{len(wish.volumes)} volumes are more than the {style.most} that {style.shown} can name.",
            advice="Choose --table gpt.",
        )
    behind = style.behind + wish.volumes[-1].gap_behind
    available = None if drive.size is None else _reach(wish, drive.size, sector) - behind
    drafts = _drafts(wish.volumes, None if use == "needed" else available, sector)
    known = available if use == "whole" else None
    budgets = [
        draft.budget(known if volume.takes_rest else None) for volume, draft in zip(wish.volumes, drafts, strict=True)
    ]
    room = manifest_room([*budgets, *_about(wish)], sector)
    manifest = style.front(sector)
    start = align_up(manifest + room, MIB)
    places = _places(wish.volumes, drafts, start)
    last = places[-1][1]
    needed = last + behind
    if available is not None:
        if last > available:
            _refuse_small(drive, needed)
        if use == "whole":
            places = _places(wish.volumes, drafts, start, available // MIB * MIB - last)
            last = places[-1][1]
    volumes = tuple(
        FittedVolume(volume, draft.settle(first, end))
        for volume, draft, (first, end) in zip(wish.volumes, drafts, places, strict=True)
    )
    return Fitted(volumes, manifest, room, needed if drive.size is None else drive.size, needed, last)


def _drafts(wishes: Sequence[VolumeWish], available: int | None, sector: int) -> list[Draft]:
    """Draft all volumes; one that takes the rest gets the clusters that are usual for what the others leave of it."""
    least = [_draft(wish, sum(file.size for _, file in wish.tree.files()), sector) for wish in wishes]
    if available is None:
        return least
    taken = [draft.smallest_end(0) + wish.spare + wish.gap_behind for wish, draft in zip(wishes, least, strict=True)]
    return [
        _draft(wish, max(available - sum(taken) + taken[number], 0), sector) if wish.takes_rest else least[number]
        for number, wish in enumerate(wishes)
    ]


def _draft(wish: VolumeWish, basis: int, sector: int) -> Draft:
    return wish.kind.draft(wish.tree, wish.label, wish.cluster or wish.kind.usual_cluster(basis, sector), sector)


def _reach(wish: DriveWish, size: int, sector: int) -> int:
    """Bytes of the drive that the table, and the volume that takes the rest, can reach."""
    sectors = STYLES[wish.table].reach(size // sector)
    for volume in wish.volumes:
        if volume.takes_rest:
            sectors = volume.kind.reach(sectors)
    return sectors * sector


def _places(wishes: Sequence[VolumeWish], drafts: Sequence[Draft], start: int, extra: int = 0) -> list[tuple[int, int]]:
    """Return where each volume begins and ends when all are as small as can be.

    The one that takes the rest is longer by `extra`.
    """
    places: list[tuple[int, int]] = []
    for wish, draft in zip(wishes, drafts, strict=True):
        end = draft.smallest_end(start) + align_up(wish.spare, MIB) + (extra if wish.takes_rest else 0)
        places.append((start, end))
        start = end + wish.gap_behind
    return places


def _refuse_small(drive: DriveShape, needed: int) -> None:
    has, what, advice = exact_size(drive.size or 0), drive.name, "Use a larger drive."
    if drive.is_image_file:
        what = f"the image file {drive.name}"
        advice = "Remove the file to have one made as large as needed (or of --size), or give another name."
        if (drive.size or 0) < MIB:
            what, advice = f"the file {drive.name}", "Give another name: this file is not a drive's image."
    raise DoesNotFit(
        f"The source does not fit: {exact_size(needed)} are needed, {what} has {has}.",
        advice=advice,
        lacking=needed - (drive.size or 0),
    )


def _about(wish: DriveWish) -> list[Budget]:
    """Return the room that the names of what was put on top of the source take."""
    size = sum(len(path.encode("utf-8", "surrogatepass")) * _ESCAPED + 4 for path in wish.laid_over)
    return [Budget(0, size)] if size else []


def _fit_image(size: int, drive: DriveShape) -> Fitted:
    """An image begins with the drive; the manifest goes to the drive's end where that leaves a MiB free."""
    drive_size = size if drive.size is None else drive.size
    if drive_size < size:
        _refuse_small(drive, size)
    place = end_place(drive_size, drive.sector_size)
    fits = place >= size and manifest_room([Budget(size, 0)], drive.sector_size) <= END_ROOM
    return Fitted((), place if fits else None, END_ROOM if fits else 0, drive_size, size, size)


def fit_again(wish: DriveWish, drive: DriveShape, standing: Sequence[StandingVolume]) -> Fitted:
    """Lay the wishes out on volumes that are there already. Raises UsageError or SourceError where they do not fit."""
    wanted, found = [volume.kind for volume in wish.volumes], [volume.kind for volume in standing]
    if wanted != found:
        has, would = (" and ".join(kind.shown for kind in kinds) for kinds in (found, wanted))
        raise UsageError(f"The drive has {has}; this would be {would}.", advice=FROM_SCRATCH)
    for volume, old in zip(wish.volumes, standing, strict=True):
        if volume.cluster not in (None, old.cluster_size):
            raise UsageError(STAYS, advice=FROM_SCRATCH)
    volumes = tuple(
        FittedVolume(volume, volume.kind.again(volume.tree, volume.label, old))
        for volume, old in zip(wish.volumes, standing, strict=True)
    )
    if sum(volume.planned.scattered for volume in volumes) > _MOST_HOLES:
        raise SourceError("The files would be too fragmented on the drive.", advice=FROM_SCRATCH)
    assert drive.size is not None
    room = manifest_room([*(volume.planned.budget() for volume in volumes), *_about(wish)], drive.sector_size)
    manifest = STYLES[wish.table].front(drive.sector_size)
    if manifest + room > volumes[0].planned.start:
        raise SourceError("The room in front of the volume is too small for the new manifest.", advice=FROM_SCRATCH)
    last = volumes[-1].planned
    return Fitted(volumes, manifest, room, drive.size, last.used_end, last.end)


# -- what lies where -------------------------------------------------------------------------------------------------


def areas_of(wish: DriveWish, fitted: Fitted, sector: int) -> tuple[Area, ...]:
    """Return everything on the drive, for people, in its order."""
    areas = _image_areas(fitted, sector) if wish.image else _volume_areas(wish, fitted, sector)
    return tuple(area for area in areas if area.size > 0)


def _volume_areas(wish: DriveWish, fitted: Fitted, sector: int) -> list[Area]:
    style, manifest = STYLES[wish.table], fitted.manifest_offset
    assert manifest is not None
    first, manifest_end = fitted.volumes[0].planned.start, manifest + fitted.manifest_room
    areas = [
        Area(Part.SEAL, 0, sector, f"{style.record_note}; written last"),
        Area(Part.GPT, sector, manifest - sector, "header and entries"),
        Area(Part.MANIFEST, manifest, fitted.manifest_room, "hashes of everything written"),
        Area(Part.GAP, manifest_end, first - manifest_end, "so that the partition starts at a whole MiB"),
    ]
    for volume in fitted.volumes:
        planned, note = volume.planned, volume.wish.note
        areas += [Area(Part.VOLUME, planned.start, planned.size, note, volume.wish.name)] if note else planned.areas()
    outside = "outside the partitions" if len(fitted.volumes) > 1 else "outside the partition"
    outside += "; the GPT's backup at its very end" if style.behind else ""
    areas.append(Area(Part.UNUSED, fitted.end, fitted.drive_size - fitted.end, outside))
    return areas


def _image_areas(fitted: Fitted, sector: int) -> list[Area]:
    manifest = fitted.drive_size if fitted.manifest_offset is None else fitted.manifest_offset
    return [
        Area(Part.SEAL, 0, sector, "the image's first sector; written last"),
        Area(Part.IMAGE, sector, fitted.end - sector, "the image, byte for byte"),
        Area(Part.UNUSED, fitted.end, manifest - fitted.end, "after the image"),
        Area(Part.MANIFEST, manifest, fitted.drive_size - manifest, "hashes of everything written"),
    ]
