"""Macs: their firmware starts the loader that a volume names in its header (field notes; HFS+ alone names one)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import PurePosixPath
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import KeystoneError
from ..content.bundles import is_bundle_name
from ..content.contents import SizedReadable
from .boot_configuration import (
    CACHED,
    COLLECTION,
    PATH,
    PRELINKED,
    T2_FILES,
    T2_FOLDERS,
    BootConfiguration,
    read_boot_configuration,
    read_property_list,
)
from .bootable import Bootable, BootVolume
from .mac_models import ListedMacs, class_of, listed_macs
from .outlook import Outlook, Verdict
from .pe import loader_architecture, loader_fault
from .trust import Machine

INTEL, T2, SILICON = "Mac, Intel", "Mac, Intel with T2 chip", "Mac, Apple silicon"
_FAT_MAGIC = b"\x0e\xf1\xfa\xb9"  # several loaders in one file, as old releases have them
_FOR_SILICON = "boot/BuildManifest.plist"
_MODELS, _VERSION = "PlatformSupport.plist", "SystemVersion.plist"
_USUAL_KERNELS = (PRELINKED, COLLECTION, CACHED, "mach_kernel")
_SYSTEM = "System/Library/CoreServices/SystemVersion.plist"
"""What a volume has that is a system itself."""
FIRST_FOR_T2 = [10, 13]
_T2_REFUSE = "such Macs refuse external drives until their owner allows them (Startup Security Utility, in Recovery)"
FIRST_FOR_SILICON = 11
"""The first release that was made for Apple silicon."""


Role = Literal["loader", "configuration", "base system", "kernel"]


class MacFault(Struct, frozen=True):
    """What keeps a Mac from starting."""

    role: Role
    path: str
    words: str


class MacStart(Struct, frozen=True):
    """What a volume that names a loader holds of a start."""

    loader: str
    configuration: BootConfiguration | None
    faults: tuple[MacFault, ...]
    listed: ListedMacs
    release: str
    lacks_for_t2: tuple[str, ...] = ()
    """What Macs with a T2 chip look for and is nowhere on it."""
    lost_links: str = ""
    """An app on it whose links are copies, or gone; '' where none is."""
    has_silicon_objects: bool = False
    """Whether what the installer has for the firmware of Apple silicon is on it."""


def mac_start(volume: BootVolume) -> MacStart | None:
    """Follow the way that a Mac takes on a volume; None of one that names no loader."""
    loader = volume.names_loader
    if not loader:
        return None
    faults = list(_loader_faults(volume, loader))
    faults += _packed_faults(volume, loader)
    configuration = None
    file = volume.find(PATH)
    if file is None:
        faults.append(MacFault("configuration", PATH, "it is missing"))
    else:
        configuration = None if file.faults else read_boot_configuration(file.content)
        if configuration is None:
            faults.append(MacFault("configuration", PATH, "it is not a property list with kernel flags"))
        else:
            faults += _named_faults(volume, configuration)
    folder = str(PurePosixPath(loader).parent)
    release = _list(volume, f"{folder}/{_VERSION}").get("ProductVersion")
    return MacStart(
        loader,
        configuration,
        tuple(faults),
        listed_macs(_list(volume, f"{folder}/{_MODELS}")),
        release if isinstance(release, str) else "",
        tuple(name for name in T2_FILES if not any(volume.find(f"{place}/{name}") for place in T2_FOLDERS)),
        next(_without_links(volume), ""),
        volume.find(_FOR_SILICON) is not None,
    )


def expired_on(volume: BootVolume, machine: Machine) -> str:
    """Return the day on which an installer's certificates ended, '' while they are valid or nothing is known."""
    until = volume.certified_until
    return until.isoformat() if until and machine.today and until < machine.today else ""


def _without_links(volume: BootVolume) -> Iterator[str]:
    """Yield apps whose frameworks have no link to their current version: what carried the app kept no links."""
    for app, what in volume.listing("").items():
        if what != "folder" or not is_bundle_name(app):
            continue
        frameworks = f"{app}/Contents/Frameworks"
        for name in volume.listing(frameworks):
            versions = volume.listing(f"{frameworks}/{name}/Versions")
            if versions and versions.get("Current") != "link":
                yield app
                break


def _loader_faults(volume: BootVolume, path: str) -> Iterator[MacFault]:
    file = volume.find(path)
    if file is None:
        yield MacFault("loader", path, "the volume names it, but it is missing")
        return
    if file.faults:
        yield MacFault("loader", path, "; ".join(file.faults))
        return
    try:
        content: SizedReadable = file.content
        if content.read_at(0, min(4, content.size)) == _FAT_MAGIC:
            return
        architecture = loader_architecture(content)
        if architecture != "x64":
            made_for = f"is made for {architecture}" if architecture else "is not a loader, by its header"
            yield MacFault("loader", path, f"it {made_for}")
        elif fault := loader_fault(content):
            yield MacFault("loader", path, f"it is damaged: {fault}")
    except KeystoneError as error:
        yield MacFault("loader", path, error.message.rstrip("."))


def _packed_faults(volume: BootVolume, loader: str) -> Iterator[MacFault]:
    """Find files of a start whose bytes are compressed beside an empty data fork, which firmware and loader read."""
    paths: list[tuple[Role, str]] = [("loader", loader), ("configuration", PATH)]
    for role, path in [*paths, *(("kernel", kernel) for kernel in _USUAL_KERNELS)]:
        file = volume.find(path)
        if file is not None and file.is_packed:
            yield MacFault(role, path, "it is kept compressed, which only a system decodes")


def _named_faults(volume: BootVolume, configuration: BootConfiguration) -> Iterator[MacFault]:
    """Find what the configuration names; a base image within a container is not looked for here."""
    wanted = configuration.container or configuration.base_image
    if wanted:
        file = volume.find(wanted)
        if file is None:
            yield MacFault("base system", wanted, "the boot configuration names it, but it is missing")
        elif file.faults:
            yield MacFault("base system", wanted, "; ".join(file.faults))
    elif volume.find(_SYSTEM) is None:
        yield MacFault("configuration", PATH, "it names no base system, and the volume is not one itself")
    kernels = [configuration.kernel] if configuration.kernel else list(_USUAL_KERNELS)
    if not any(volume.find(kernel) is not None for kernel in kernels):
        yield MacFault("kernel", kernels[0], "it is missing")


def _list(volume: BootVolume, path: str) -> dict[str, object]:
    file = volume.find(path)
    found = read_property_list(file.content) if file is not None and not file.faults else None
    return found if isinstance(found, dict) else {}


class Mac:
    """The firmware of Macs."""

    def rows(self, drive: Bootable, machine: Machine) -> Sequence[Outlook]:
        """No rows of a drive without a volume that could name a loader: it is not meant for Macs."""
        able = [volume for volume in drive.volumes if volume.kind.names_loaders]
        if not able:
            return ()
        starts = [(volume, found) for volume in able if (found := mac_start(volume)) is not None]
        if not starts:
            why = "no volume names a loader to the firmware of Macs"
            return (Outlook(INTEL, "will not start", why, kind="mac", architecture="x64"),)
        several = len(starts) > 1
        return [
            row
            for number, (volume, start) in enumerate(starts, 1)
            for row in self._rows(volume, start, drive, machine, f", {start.release or number}" if several else "")
        ]

    def _rows(
        self, volume: BootVolume, start: MacStart, drive: Bootable, machine: Machine, which: str
    ) -> Sequence[Outlook]:
        """`which` tells an installer from others on the same drive."""
        name = INTEL + which

        def row(verdict: Verdict, reason: str) -> Outlook:
            return Outlook(name, verdict, reason, kind="mac", architecture="x64")

        if start.faults:
            first = start.faults[0]
            more = f"; and {len(start.faults) - 1} more" if len(start.faults) > 1 else ""
            return (row("will not start", f"{first.path}: {first.words}{more}"),)
        if drive.table != "gpt":
            return (row("not known", "whether Macs start from an MBR drive is not proven"),)
        if start.lost_links:
            words = f"{start.lost_links} has lost its links: take it out of its disk image, and build again"
            return (row("not known", words),)
        verdict: Verdict = "starts"
        reason = f"the volume names {start.loader}, which finds its kernel and base system"
        models, is_listed = start.listed.models, start.listed.has(machine.model, machine.board)
        mac = machine.model or machine.board
        if is_listed:
            reason = f"{mac} is among the {len(models)} models that the installer lists; {reason}"
        elif is_listed is False:
            verdict = "will not start"
            reason = f"{mac} is not among the {len(models)} models that the installer lists"
        elif models:
            reason += f"; {len(models)} models are listed (--machine-model says of one whether it is)"
        if verdict == "starts" and (ended := expired_on(volume, machine)):
            reason = (
                f"its installer refuses to run (certificates expired on {ended}; set the Mac's clock back); {reason}"
            )
        intel = row(verdict, reason)
        t2, silicon = self._t2(start, T2 + which, name), self._silicon(start, SILICON + which)
        if intel.verdict == "will not start" and machine.model and class_of(machine.model) == "T2":
            t2 = replace(t2, verdict=intel.verdict, reason=intel.reason)
        return {
            "Intel": (intel,),
            "T2": (replace(t2, refines=""),),
            "Apple silicon": (silicon,),
            None: (intel, t2, silicon),
        }[class_of(machine.model)]

    def _t2(self, start: MacStart, name: str, refined: str) -> Outlook:
        verdict: Verdict = "not known"
        reason = _T2_REFUSE
        if lacking := start.lacks_for_t2:
            are = "is" if len(lacking) == 1 else "are"
            reason += f"; {' and '.join(lacking)}, which their firmware looks for, {are} not on it"
        numbers = [int(part) for part in start.release.split(".") if part.isdecimal()]
        if numbers and numbers < FIRST_FOR_T2:
            verdict, reason = "will not start", f"{start.release} does not run on Macs with a T2 chip"
        return Outlook(name, verdict, reason, refines=refined, kind="mac", architecture="x64")

    def _silicon(self, start: MacStart, name: str) -> Outlook:
        first = start.release.split(".")[0]
        verdict: Verdict = "not known"
        reason = "it starts installers by its own rules (hold the power button, choose the drive)"
        if start.has_silicon_objects:
            reason += "; the installer's boot files for it are on the drive"
        if first.isdecimal() and int(first) < FIRST_FOR_SILICON:
            verdict, reason = "will not start", f"{start.release} does not run on Apple silicon"
        return Outlook(name, verdict, reason, kind="mac", architecture="arm64")
