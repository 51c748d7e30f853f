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
from ..boot.records import boot_sector, further_code, mbr_code
from ..drives.host import Span
from ..extents import Region
from ..manifest.room import manifest_offset
from ..planning.plan import Plan
from ..planning.volumes import PlannedVolume
from ..tables.gpt import BASIC_DATA, NO_DRIVE_LETTER, GptPartition, compose_gpt
from ..tables.mbr import TYPE_FAT32_LBA, TYPE_NTFS, TYPE_SYSTEM, MbrPartition, compose_mbr
from ..volumes.fat32.compose import compose as compose_fat32
from ..volumes.fat32.geometry import Geometry as Fat32Geometry
from ..volumes.ntfs.compose import compose as compose_ntfs
from ..volumes.ntfs.essence import essences_of
from ..volumes.ntfs.layout import Layout as NtfsLayout
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
            digest.update(
                np.array([(extent.offset, extent.content.size) for extent in region.extents], "<u8").tobytes()
            )
        return digest.digest()

    @property
    def bytes_to_write(self) -> int:
        """Bytes of all regions."""
        return sum(region.size for region in self.regions)


def compose_drive(plan: Plan) -> DriveImage:
    """Lay out the whole drive of `plan`. Deterministic: the same plan, the same image."""
    identity = identity_of(plan)
    assert plan.drive.size is not None
    regions: list[Region] = []
    notes: list[dict[str, Any]] = []
    for volume in plan.volumes:
        serial = serial_of(volume, identity)
        regions += regions_of(volume, serial)
        notes.append(_note(volume, serial))
    seal, tables = _table(plan, identity)
    table = plan.choices.table or "mbr"
    return DriveImage(
        size=plan.drive.size,
        sector_size=plan.drive.sector_size,
        seal=seal,
        regions=tuple(regions),
        manifest_offset=manifest_offset(table, plan.drive.sector_size),
        manifest_room=plan.manifest_room,
        first_partition=plan.volumes[0].start,
        partitions=tuple(Span(number, volume.start, volume.size) for number, volume in enumerate(plan.volumes, 1)),
        tables=tables,
        about={
            "tool": f"lucky-keystone {__version__}",
            "source": {
                "name": plan.source.path.name,
                "label": plan.source.label,
                "fingerprint": plan.source.fingerprint,
            },
            "identity": plan.identity,
            "drive_size": plan.drive.size,
            "sector_size": plan.drive.sector_size,
            "table": table,
            "volumes": notes,
        },
    )


def serial_of(volume: PlannedVolume, identity: Identity) -> int:
    """Return a volume's serial number: 32 bits on FAT32, 64 on NTFS."""
    purpose = "volume serial" if volume.role == "installer" else f"{volume.role} volume serial"
    return identity.number(purpose, 8 if volume.file_system == "ntfs" else 4)


def regions_of(volume: PlannedVolume, serial: int) -> list[Region]:
    """Return a volume's regions at their offsets on the drive, with our boot code."""
    first, further = boot_sector(volume.file_system), further_code(volume.file_system)
    if isinstance(volume.layout, NtfsLayout):
        return compose_ntfs(volume.layout, serial=serial, boot_sector=first, further_code=further)
    assert isinstance(volume.geometry, Fat32Geometry)
    return compose_fat32(volume.layout, volume.geometry, serial=serial, boot_sector=first, further_code=further)


def _note(volume: PlannedVolume, serial: int) -> dict[str, Any]:
    """What the manifest tells of a volume."""
    layout = volume.layout
    note: dict[str, Any] = {
        "offset": volume.start,
        "file_system": volume.file_system,
        "label": volume.label,
        "serial": serial,
        "next_free_cluster": layout.next_free,
        "free_clusters": volume.geometry.cluster_count - layout.clusters_used,
        "folders": [],
        "holes": [list(hole) for hole in layout.holes],
    }
    if isinstance(layout, NtfsLayout):
        return {**note, "records": essences_of(layout)}
    return {**note, "folders": [[placed.cluster, placed.used_bytes] for placed in layout.folders]}


_MBR_TYPES = {
    ("installer", "fat32"): TYPE_FAT32_LBA,
    ("installer", "ntfs"): TYPE_NTFS,
    ("starter", "fat32"): TYPE_FAT32_LBA,
}


def _table(plan: Plan, identity: Identity) -> tuple[bytes, tuple[tuple[int, bytes], ...]]:
    """Return sector 0, and what else belongs to the table, in the order it is written."""
    signature, sector = identity.number("disk signature"), plan.drive.sector_size
    shapes = [(volume.geometry.hidden, volume.geometry.total) for volume in plan.volumes]
    if plan.choices.table != "gpt":
        entries = [
            MbrPartition(number, number == 1, _MBR_TYPES.get((volume.role, volume.file_system), TYPE_SYSTEM), *shape)
            for number, (volume, shape) in enumerate(zip(plan.volumes, shapes, strict=True), 1)
        ]
        return compose_mbr(mbr_code(), signature, entries, sector), ()
    assert plan.drive.size is not None
    purposes = ["partition GUID", "second partition GUID"]
    partitions = [
        # Basic data: firmware finds the loader on removable drives all the same, and setup gives the volume a letter.
        GptPartition(
            number,
            BASIC_DATA,
            _guid(identity, purpose),
            *shape,
            NO_DRIVE_LETTER if volume.role == "crossing" else 0,
            name=volume.label,
        )
        for number, (volume, shape, purpose) in enumerate(zip(plan.volumes, shapes, purposes, strict=False), 1)
    ]
    parts = compose_gpt(
        _guid(identity, "disk GUID"),
        partitions,
        plan.drive.size // sector,
        sector,
        code=mbr_code(),
        signature=signature,
    )
    return parts.protective, ((parts.backup_offset, parts.backup), (parts.primary_offset, parts.primary))


def _guid(identity: Identity, purpose: str) -> uuid.UUID:
    return uuid.UUID(bytes=identity.derive(purpose, 16), version=4)
