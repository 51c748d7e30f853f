"""Walks the way a Mac starts a drive, and reads the base system that its loader loads to the end.

A volume that could name a loader and names none is no fault where another one does.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import KeystoneError, SourceError
from ..common.progress import Progress
from ..content.bundles import SUPPORT, is_bundle_name
from ..content.contents import Seekable, SizedReadable, seekable
from ..content.ranges import ContentFile, FileRange
from ..sources.certificates import PACKAGES, certified_until, is_package
from ..sources.chunk_list import ENDING, ChunkList, compare, read_chunk_list
from ..sources.diskimage import DiskImage
from ..sources.diskimage_sums import verify
from ..sources.nested import open_image
from ..starting.bootable import ReadBootVolume, ReadDrive
from ..starting.mac import MacStart, Role, expired_on, mac_start
from ..starting.trust import Machine
from .codes import Code
from .report import Place, Report

_REBUILD = "Build the drive again."
_CODES: dict[Role, Code] = {
    "loader": Code.START_MAC_LOADER,
    "configuration": Code.START_MAC_CONFIGURATION,
    "kernel": Code.START_MAC_KERNEL,
    "base system": Code.START_MAC_BASE,
}


def walk_macs(drive: ReadDrive, report: Report, machine: Machine) -> None:
    """Find what keeps Macs from starting a drive that is meant for them."""
    able = [volume for volume in drive.volumes if volume.kind.names_loaders]
    starts = [(volume, mac_start(volume)) for volume in able]
    for volume, start in starts:
        if start is None and not any(found for _, found in starts):
            what = "the volume's header names no loader that is there, so Macs do not list it."
            report.start(Code.START_MAC_NAMES_NONE, what, _REBUILD, Place(volume.partition.number))
        for fault in start.faults if start else ():
            what = f"{fault.path}: {fault.words}, so Macs will not start it."
            place = Place(volume.partition.number, file=fault.path)
            report.fault(_CODES[fault.role], "start", what, _REBUILD, place)
        if start is not None and (ended := expired_on(volume, machine)):
            what = f"The installer's certificates expired on {ended}: under a correct clock it refuses to run."
            advice = "Set the Mac's clock to a day before that (in the installer's Terminal), or use a newer download."
            report.start(Code.START_MAC_EXPIRED, what, advice, Place(volume.partition.number))
        elif start is not None and volume.certified_until:
            report.looked_at.append(f"certificates of the installer's packages: valid until {volume.certified_until}")


def with_certificates(volume: ReadBootVolume) -> ReadBootVolume:
    """Return a volume with the day on which the certificates of its installer's packages end.

    The packages are in the volume itself, or in a disk image of an app on it.
    """
    return replace(volume, certified_until=certified_until(_packages(volume))) if volume.kind.names_loaders else volume


def _packages(volume: ReadBootVolume) -> Iterator[Seekable]:
    for name in filter(is_package, volume.listing(PACKAGES)):
        if (file := volume.find(f"{PACKAGES}/{name}")) is not None and not file.faults:
            yield FileRange(ContentFile(file.content, name), 0, file.size)
    for app in volume.listing(""):
        for image in volume.listing(f"{app}/{SUPPORT}") if is_bundle_name(app) else ():
            if not image.lower().endswith(".dmg"):
                continue
            path = f"{app}/{SUPPORT}/{image}"
            file = volume.find(path)
            if file is None or file.faults:
                continue
            try:
                held = open_image(file.content, path).volume
                beside = list(held.beside(f"{PACKAGES}/x")) if held is not None else []
            except KeystoneError:
                continue  # what is damaged in it is told by its own findings
            yield from (seekable(package.content) for package in beside if is_package(package.name))


def verify_base_systems(drive: ReadDrive, progress: Progress, report: Report) -> None:
    """Read every base system that a boot configuration names to its end, and compare its own checksums."""
    for volume in drive.volumes:
        start = mac_start(volume) if volume.kind.names_loaders else None
        if start is None or start.configuration is None or start.faults:
            continue
        name = start.configuration.container or start.configuration.base_image
        try:
            base = _base_image(volume, start)
            found = verify(base.disk, progress) if base is not None and base.disk is not None else None
            if base is not None and base.sums is not None:
                compare(base.content, base.sums, base.name, progress)
                report.looked_at.append(f"base system: {base.name} is as its chunk list says, piece by piece")
        except KeystoneError as error:
            _damaged(name, error.message, volume, report)
            continue
        if found is None:
            if name and (base is None or base.sums is None):
                report.unknown.append(f"{name} carries no checksums of its own.")
            continue
        for fault in found.wrong:
            _damaged(name, fault, volume, report)
        if found.right:
            report.looked_at.append(f"base system: {name}, read to its end; its checksums are right")
        report.unknown += [f"{name}: {words}." for words in found.unverified]


def _damaged(name: str, words: str, volume: ReadBootVolume, report: Report) -> None:
    place = Place(volume.partition.number, file=name)
    report.fault(Code.START_MAC_BASE, "start", f"{name} is damaged: {words.rstrip('.')}.", _REBUILD, place)


class _BaseImage(Struct, frozen=True):
    """A base system, and what can be compared with it."""

    name: str
    content: Seekable
    disk: DiskImage | None
    """None of one without checksums."""
    sums: ChunkList | None
    """Of the list beside it."""


def _base_image(volume: ReadBootVolume, start: MacStart) -> _BaseImage | None:
    """Return the base system's disk image; None where there is none. Raises SourceError where it is damaged."""
    assert start.configuration is not None
    configuration = start.configuration
    path = configuration.container or configuration.base_image
    file = volume.find(path) if path else None
    if file is None:
        return None
    image, content = open_image(file.content, path), _whole(file.content, path)
    beside = volume.find(path.removesuffix(".dmg") + ENDING)
    sums, name = _whole(beside.content, path) if beside is not None and not beside.faults else None, path
    if configuration.container and configuration.base_image:
        inside = configuration.base_image
        held = image.volume.find(inside) if image.volume is not None else None
        if image.volume is None or held is None:
            raise SourceError(f"{inside} is not in it, though the boot configuration names it.")
        name, content = f"{path}: {inside}", seekable(held.content)
        listed = image.volume.find(inside.removesuffix(".dmg") + ENDING)
        image = open_image(content, name)
        sums = seekable(listed.content) if listed is not None else None
    found = read_chunk_list(sums, name.removesuffix(".dmg") + ENDING) if sums is not None else None
    return _BaseImage(name, content, image.disk if isinstance(image.disk, DiskImage) else None, found)


def _whole(content: SizedReadable, name: str) -> Seekable:
    return FileRange(ContentFile(content, name), 0, content.size)
