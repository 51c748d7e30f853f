"""Composes a plan into a drive image: every byte described, nothing read."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
from blake3 import blake3

from .. import __version__
from ..boot.records import fat32_boot_sector, fat32_further_code, mbr_code
from ..drives.host import Span
from ..extents import Region
from ..planning.plan import Plan
from ..planning.room import manifest_offset
from ..tables.gpt import BASIC_DATA, GptPartition, compose_gpt
from ..tables.mbr import TYPE_FAT32_LBA, MbrPartition, compose_mbr
from ..volumes.fat32.compose import compose
from .identity import Identity, identity_of


@dataclass(frozen=True)
class DriveImage:
    """A drive, described. Streamed in the order: `regions` rising, then the manifest, then the seal."""

    size: int
    sector_size: int
    seal: bytes
    """Sector 0."""
    regions: tuple[Region, ...]
    manifest_offset: int
    manifest_room: int
    first_partition: int
    """Byte where the first partition starts: everything before belongs to table and manifest."""
    about: dict[str, Any]
    """What the manifest tells besides hashes; see docs/formats.md."""
    partitions: tuple[Span, ...]
    """For telling a system of them."""
    tables: tuple[tuple[int, bytes], ...] = ()
    """Offset and bytes of what is written between manifest and seal: a GPT's backup, then its primary."""

    @cached_property
    def fingerprint(self) -> bytes:
        """32 bytes over everything that is decided before a byte is read: tells whether a begun drive is this one."""
        digest = blake3(msgspec.json.encode([self.size, self.sector_size, self.about], order="sorted"))
        digest.update(self.seal)
        for _, data in self.tables:
            digest.update(data)
        for region in self.regions:
            digest.update(region.kind.encode())
            digest.update(np.array([(extent.offset, extent.content.size) for extent in region.extents], "<u8").tobytes())
        return digest.digest()

    @property
    def bytes_to_write(self) -> int:
        """Bytes of all regions."""
        return sum(region.size for region in self.regions)


def compose_drive(plan: Plan) -> DriveImage:
    """Lay out the whole drive of `plan`. Deterministic: the same plan, the same image."""
    shape = plan.geometry
    identity = identity_of(plan)
    serial, signature = identity.number("volume serial"), identity.number("disk signature")
    regions = compose(plan.layout, shape, serial=serial, boot_sector=fat32_boot_sector(), further_code=fat32_further_code())
    assert plan.drive.size is not None
    seal, tables = _table(plan, identity, signature)
    start = shape.hidden * shape.sector_size
    return DriveImage(
        size=plan.drive.size,
        sector_size=shape.sector_size,
        seal=seal,
        regions=tuple(regions),
        manifest_offset=manifest_offset(plan.choices.table or "mbr", shape.sector_size),
        manifest_room=plan.manifest_room,
        first_partition=start,
        partitions=(Span(1, start, shape.total * shape.sector_size),),
        tables=tables,
        about={
            "tool": f"lucky-keystone {__version__}",
            "source": {"name": plan.source.path.name, "label": plan.source.label, "fingerprint": plan.source.fingerprint},
            "identity": plan.identity,
            "drive_size": plan.drive.size,
            "sector_size": shape.sector_size,
            "table": plan.choices.table or "mbr",
            "volume": {
                "offset": start,
                "file_system": "fat32",
                "label": plan.layout.label,
                "serial": serial,
                "next_free_cluster": plan.layout.next_free,
                "free_clusters": shape.cluster_count - plan.layout.clusters_used,
                "folders": [[placed.cluster, placed.used_bytes] for placed in plan.layout.folders],
                "holes": [list(hole) for hole in plan.layout.holes],
            },
        },
    )


def _table(plan: Plan, identity: Identity, signature: int) -> tuple[bytes, tuple[tuple[int, bytes], ...]]:
    """Return sector 0, and what else belongs to the table, in the order it is written."""
    shape = plan.geometry
    if plan.choices.table != "gpt":
        active = MbrPartition(1, True, TYPE_FAT32_LBA, shape.hidden, shape.total)
        return compose_mbr(mbr_code(), signature, [active], shape.sector_size), ()
    assert plan.drive.size is not None
    disk, unique = (uuid.UUID(bytes=identity.derive(purpose, 16), version=4) for purpose in ("disk GUID", "partition GUID"))
    # Basic data: firmware finds the loader on removable drives all the same, and setup gives the volume a letter.
    partition = GptPartition(1, BASIC_DATA, unique, shape.hidden, shape.total, name=plan.layout.label)
    parts = compose_gpt(disk, [partition], plan.drive.size // shape.sector_size, shape.sector_size, code=mbr_code(), signature=signature)
    return parts.protective, ((parts.backup_offset, parts.backup), (parts.primary_offset, parts.primary))
