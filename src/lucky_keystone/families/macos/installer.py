"""The macOS installer family: an installer app becomes a drive that Macs start from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar, Literal

import msgspec
from msgspec.structs import replace

from ...common.errors import KeystoneError, UsageError
from ...common.progress import Progress
from ...common.units import counted
from ...content.extents import MIB
from ...content.tree import Folder
from ...machine.facts import MachineFacts
from ...sources.chunk_list import compare
from ...sources.diskimage import DiskImage
from ...sources.source import Source
from ...starting.bootable import PlannedBootVolume, PlannedDrive
from ...starting.mac import FIRST_FOR_SILICON, mac_start
from ...tables.partition import Use
from ...volumes.fat32.kind import FAT32
from ...volumes.hfsplus.kind import HFSPLUS
from ...volumes.hfsplus.names import needs_case
from ..choices import Choices, TakenChoices, all_but
from ..facts import MacFacts, SourceFacts
from ..family import Decision, DriveShape, DriveWish, Family, Proposal, Supply, VolumeWish
from .app import FROM_ITS_IMAGE, find_apps
from .generations import BESIDE, CORE, SOLD_FOR_NEWEST, WHOLE_VOLUME
from .payload import Payload, is_system_volume, payload_of

if TYPE_CHECKING:
    from .contents import InstallerTree

_SYSTEM_LABEL = "EFI"
_GAP = 128 * MIB
"""Bytes left free behind the volume, as systems leave them."""


class MacInstaller(Family):
    """macOS installer apps."""

    name: ClassVar[str] = "macos-installer"
    shown: ClassVar[str] = "macOS installer"
    takes: ClassVar[TakenChoices] = all_but(
        {
            "firmware": "a macOS installer starts Macs alone",
            "file_system": "the firmware of Macs reads HFS+",
            "part_size": "nothing needs splitting on HFS+",
            "edition": "an app installs one system",
            "internal_disks": "it is about systems that run from the drive, and this one installs",
            "ask_edition": "an app installs one system",
            "waive": "no check of it can be waived",
            "loader_signing": "its loader is the app's own",
            **dict.fromkeys(("entry_name", "default_entry", "menu_timeout"), "Macs list volumes by their own labels"),
        }
    )

    def recognises(self, source: Source) -> bool:
        return bool(find_apps(source)) or is_system_volume(source)

    def facts(self, source: Source) -> SourceFacts:
        files = list(source.root.files())
        found = SourceFacts(
            family=self.name,
            form=source.form,
            label=source.label,
            file_count=len(files),
            folder_count=source.root.folder_count,
            total_bytes=sum(file.size for _, file in files),
            notes=source.notes,
        )
        try:
            payload = payload_of(source)
        except KeystoneError as error:
            title = next((app.title for app in find_apps(source)), source.label)
            return replace(found, mac=MacFacts(title), unusable=error.message, unusable_advice=error.advice)
        until = payload.certified_until
        facts = MacFacts(
            title=payload.app.title,
            build=payload.build,
            generation=payload.generation.name,
            models=payload.listed_macs.models,
            boards=payload.listed_macs.boards,
            sold=_sold(payload),
            base_unread=payload.base.unread if payload.base else "",
            certified_until=until.isoformat() if until else "",
        )
        return replace(
            found,
            architectures=_processors(payload),
            release=payload.release,
            mac=facts,
            damage=(*source.damage, *_damage(payload)),
            notes=(*source.notes, *payload.notes, *(each.note for each in payload.listed if each.note)),
        )

    def on_drive(self, source: Source) -> Folder:
        """Return the drive's tree without the label's pictures: the label may have been chosen."""
        from .contents import installer_tree

        payload = payload_of(source)
        tree = installer_tree(payload, payload.app.title).tree
        beside = tree.find_folder(CORE)
        assert beside is not None
        for name in [name for name in beside.entries if name.startswith(".disk_label")]:
            del beside.entries[name]
        return tree

    def supplied(self, source: Source, path: str) -> Supply | None:
        return None

    def disk_images(self, source: Source) -> Sequence[DiskImage]:
        payload = payload_of(source)
        opened = [image for image in (payload.image, payload.base, payload.packages) if image is not None]
        disks = [source.disk_image, *(image.disk for image in opened)]
        return list({id(disk): disk for disk in disks if isinstance(disk, DiskImage)}.values())

    def prove(self, source: Source, progress: Progress) -> Sequence[str]:
        """Compare images with their chunk lists."""
        proofs: list[str] = []
        for each in payload_of(source).listed:
            if each.listed is not None:
                compare(each.file.content, each.listed, each.name, progress)
                proofs.append(f"{each.name} is as {each.listed.name.rpartition('/')[2]} says, piece by piece")
        return proofs

    def for_secure_boot(self) -> Sequence[Proposal]:
        return ()

    def for_shortfalls(self, source: Source, machines: Sequence[MachineFacts]) -> Sequence[Proposal]:
        return ()

    def refuse_update(self) -> None:
        return None

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        from .contents import installer_tree  # with all that a drive for Macs gets beside the app

        payload = payload_of(source)
        if source.added:
            raise UsageError(
                f"--add: {payload.app.name} is signed as a whole, and nothing is added to it.",
                advice="Leave it out, and copy the files onto the finished drive.",
            )
        _refuse_choices(choices, drive)
        label = choices.label or payload.app.title
        if fault := HFSPLUS.label_fault(label):
            raise UsageError(f"Label '{label}' {fault}.", advice=f"Use {HFSPLUS.label_rule}.")
        if choices.cluster is not None:
            HFSPLUS.check_cluster(choices.cluster, drive.sector_size)
        made = installer_tree(payload, label)
        name = _volume_name(payload) or label
        table: Literal["mbr", "gpt"] = "mbr" if choices.table == "mbr" else "gpt"
        settled = msgspec.structs.replace(choices, table=table, purpose="install", label=label)
        volumes = (
            VolumeWish(
                name="system",
                kind=FAT32,
                tree=Folder(""),
                label=_SYSTEM_LABEL,
                use=Use.EFI_SYSTEM,
                reason="Macs expect a system partition in front; it stays empty",
                note="FAT32, empty: what Macs keep for their firmware",
            ),
            VolumeWish(
                name="mac installer",
                kind=HFSPLUS,
                tree=made.tree,
                label=name,
                cluster=choices.cluster,
                takes_rest=True,
                gap_behind=_GAP,
                use=Use.HFS,
                reason="everything the installer needs",
                note="HFS+: the app, and what a Mac starts" if drive.is_shared else "",
            ),
        )
        seen = [PlannedBootVolume(v.kind, v.tree, v.active, table) for v in volumes]
        seen[-1] = replace(seen[-1], certified_until=payload.certified_until)
        return DriveWish(
            choices=settled,
            table=table,
            volumes=volumes,
            decisions=_decisions(payload, choices, (label, name), made, lost_links=bool(_lost_links(seen[-1]))),
            bootable=PlannedDrive(table, drive.sector_size, seen),
        )


def _lost_links(volume: PlannedBootVolume) -> str:
    start = mac_start(volume)
    return start.lost_links if start is not None else ""


def _refuse_choices(choices: Choices, drive: DriveShape) -> None:
    if choices.table == "mbr" and not drive.is_shared:
        raise UsageError(
            "--table mbr: whether Macs start from such a drive is not known; their own tools make GPT drives.",
            advice="Leave it out: the drive gets a GPT.",
        )


def _volume_name(payload: Payload) -> str:
    """Return the name that the volume must have: that of the image, by which its base system finds the packages.

    '' where any will do.
    """
    if payload.generation is not WHOLE_VOLUME or payload.image is None or payload.image.volume is None:
        return ""
    name = payload.image.volume.label
    return "" if HFSPLUS.label_fault(name) else name


def _decisions(
    payload: Payload, choices: Choices, names: tuple[str, str], made: InstallerTree, *, lost_links: bool
) -> list[Decision]:
    """`names`: what the Mac's picker shows, and what the volume is called."""
    app, generation = payload.app, payload.generation
    label, name = names
    what = "by its contents" if payload.volume is None else "a volume that starts by itself"
    base = {True: "copied to the drive's root", False: "where it is in the app"}[bool(generation.base_on_drive)]
    decisions = [
        Decision("generation", generation.name, what),
        Decision(
            "table",
            "GPT",
            "the firmware of Macs starts from it" if choices.table is None else "as chosen",
            "tool" if choices.table is None else "you",
            "table",
        ),
        Decision("file system", "HFS+", "the firmware of Macs reads it, and starts the loader that it names"),
        Decision(
            "label",
            label,
            "the app's name" if choices.label is None else "as chosen",
            "tool" if choices.label is None else "you",
            "label",
        ),
    ]
    if name != label:
        reason = "as on the image: the base system finds its packages by it; the label is what the Mac's picker shows"
        decisions.append(Decision("volume name", name, reason))
    if payload.volume is not None:
        what = f"the volume of {generation.image}" if generation.image else "the image's volume"
        decisions.append(Decision("contents", what, "it starts by itself; the label is added"))
    else:
        decisions.append(Decision("base system", base, f"as loaders of {generation.name} expect it"))
        decisions.append(Decision("boot files", counted(len(made.boot_files), "file"), f"taken from {app.name}"))
    if (pair := needs_case(made.tree)) is not None:
        decisions.append(Decision("names", "case-sensitive", f"'{pair[0]}' and '{pair[1]}' differ in that alone"))
    if until := payload.certified_until:
        reason = "by the certificates of its packages: later, by the Mac's clock, it refuses to run"
        decisions.append(Decision("installer runs", f"until {until.isoformat()}", reason))
    if not made.keeps_modes:
        reason = "the carrier of the app kept none: programs 0755, other files 0644, folders 0755"
        decisions.append(Decision("permissions", "by the type of each file", reason))
    if lost_links:
        reason = f"the carrier of the app turned its links into copies, or dropped them. {FROM_ITS_IMAGE}"
        decisions.append(Decision("links", "missing", reason))
    return decisions


def _processors(payload: Payload) -> tuple[str, ...]:
    major = _major(payload)
    if not major:
        return ()
    return ("x64", "arm64") if major >= FIRST_FOR_SILICON else ("x64",)


def _major(payload: Payload) -> int:
    first = payload.release.split(".")[0]
    return int(first) if first.isdecimal() else 0


def _sold(payload: Payload) -> int:
    release, size = SOLD_FOR_NEWEST
    return size if _major(payload) >= release else payload.generation.sold


def _damage(payload: Payload) -> tuple[str, ...]:
    """Say what an app of this kind must carry and does not."""
    if payload.generation is BESIDE and payload.packages is None:
        return (f"{payload.app.name} contains no InstallESD.dmg: what would be installed is missing.",)
    image = payload.image.volume if payload.image is not None and payload.volume is not None else None
    lacking = image.damage if image is not None else ()
    return (*lacking, *(each.fault for each in payload.listed if each.fault))
