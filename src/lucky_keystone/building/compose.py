"""Composes a plan into a drive image: every byte described, nothing read. Volumes and tables answer for themselves."""

from __future__ import annotations

from typing import Any

from .. import __version__
from ..boot.records import mbr_code
from ..content.contents import Zeros
from ..content.extents import Extent, align_up
from ..content.ranges import tail
from ..content.regions import Region, RegionKind, region
from ..drives.host import Span
from ..families.asking import build_of, needs_of
from ..families.families import known_family, shown_family
from ..families.family import DriveBytes, DriveNames
from ..planning.identity import names_of, numbers_of
from ..planning.plan import FittedVolume, Plan
from ..sources.source import Source
from ..tables.partition import WantedPartition
from ..tables.styles import STYLES, ComposedTable, TableNumbers
from .image import DriveImage

_MOST_DAMAGE, _LONGEST_DAMAGE = 8, 400
"""Sentences on a source's damage that the manifest keeps, and characters of each: its room is limited."""
_MOST_PARTS, _LONGEST_NAME = 12, 100
"""The same of sources and their names."""


def compose_drive(plan: Plan) -> DriveImage:
    """Lay out the whole drive of `plan`. Deterministic: the same plan, the same image."""
    if plan.image is not None:
        return _compose_image(plan, plan.image)
    numbers = numbers_of(plan.source, plan.choices, plan.drive)
    regions: list[Region] = []
    notes: list[dict[str, Any]] = []
    for volume in plan.volumes:
        serial = numbers.number(serial_purpose(volume), volume.wish.kind.serial_size)
        regions += volume.planned.regions(serial)
        notes.append(volume.planned.note(serial))
    assert plan.drive.size is not None
    names = names_of(numbers, plan.volumes, plan.table)
    table = compose_table(names, plan.volumes, plan.drive.size, plan.drive.sector_size)
    return DriveImage(
        size=plan.drive.size,
        sector_size=plan.drive.sector_size,
        seal=table.seal,
        regions=tuple(regions),
        manifest_offset=plan.manifest_offset,
        manifest_room=plan.manifest_room,
        first_content=plan.volumes[0].planned.start,
        partitions=spans_of(plan.volumes),
        tables=table.rest,
        about=_about(plan, notes),
    )


def _about(plan: Plan, notes: list[dict[str, Any]]) -> dict[str, Any]:
    """What the manifest says beside regions and hashes."""
    source = plan.source
    return {
        **({"source_damage": [each[:_LONGEST_DAMAGE] for each in plan.damage[:_MOST_DAMAGE]]} if plan.damage else {}),
        **({"laid_over": list(plan.laid_over)} if plan.laid_over else {}),
        "tool": f"lucky-keystone {__version__}",
        "source": {
            "name": " with ".join(each.path.name for each in (source, *source.further)),
            "label": source.label,
            "fingerprint": source.fingerprint,
        },
        **({"parts": [_part(each) for each in (source, *source.further)[:_MOST_PARTS]]} if source.further else {}),
        "identity": plan.identity,
        "drive_size": plan.drive.size,
        "sector_size": plan.drive.sector_size,
        "table": plan.table,
        **({"starts_on": starts_on} if (starts_on := _starts_on(plan)) else {}),
        "volumes": notes,
    }


def _part(source: Source) -> dict[str, Any]:
    facts = known_family(source).facts(source)
    return {
        "name": source.path.name[:_LONGEST_NAME],
        "what": shown_family(source),
        "release": facts.release,
        "build": build_of(facts),
        "architectures": list(facts.architectures),
        "size": facts.total_bytes,
        "needs": needs_of(facts),
    }


def _starts_on(plan: Plan) -> list[str]:
    """Return the firmware that was asked for, where the forecast does not rule it out."""
    wanted = ("bios", "uefi") if plan.choices.firmware == "both" else (plan.choices.firmware,)
    able = {row.kind for row in plan.forecast if row.verdict != "will not start"}
    return [kind for kind in ("bios", "uefi") if kind in wanted and kind in able]


def serial_purpose(volume: FittedVolume) -> str:
    """Return what a volume's serial number derives from, beside what makes the drive."""
    return "volume serial" if volume.wish.takes_rest else f"{volume.wish.name} volume serial"


def compose_table(
    names: DriveNames, volumes: tuple[FittedVolume, ...], drive_size: int, sector_size: int
) -> ComposedTable:
    """Return the table that names `volumes`, in their order on the drive."""
    partitions = [
        WantedPartition(
            number=number,
            use=volume.wish.use,
            active=volume.wish.active,
            first_lba=volume.planned.start // sector_size,
            sector_count=volume.planned.size // sector_size,
            unique=names.partitions[volume.wish.name].guid,
            name=volume.planned.label,
        )
        for number, volume in enumerate(volumes, 1)
    ]
    drawn = TableNumbers(names.signature, names.disk)
    return STYLES[names.table].compose(drawn, partitions, mbr_code(), drive_size // sector_size, sector_size)


def spans_of(volumes: tuple[FittedVolume, ...]) -> tuple[Span, ...]:
    """Return the partitions, for telling a system of them."""
    return tuple(Span(number, volume.planned.start, volume.planned.size) for number, volume in enumerate(volumes, 1))


def _compose_image(plan: Plan, image: DriveBytes) -> DriveImage:
    """The image's first sector is the seal.

    The rest of it follows, filled up to a whole sector where the drive is longer.
    """
    assert plan.drive.size is not None
    size, sector = image.content.size, plan.drive.sector_size
    end = min(align_up(size, sector), plan.drive.size)
    rest = [Extent(sector, tail(image.content, sector)), Extent(size, Zeros(end - size))] if size > sector else []
    return DriveImage(
        size=plan.drive.size,
        sector_size=sector,
        seal=image.head(sector),
        regions=(region(RegionKind.IMAGE, rest),) if rest else (),
        manifest_offset=plan.manifest_offset,
        manifest_room=plan.manifest_room,
        first_content=sector,
        partitions=(),
        about={**_about(plan, []), "image_size": size},
    )
