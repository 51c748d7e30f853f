"""Drives that are mutated and then mended: every file that another reader still reads right, it reads afterwards."""

from __future__ import annotations

from pathlib import Path

from lucky_keystone.common.progress import silent
from lucky_keystone.content.regions import RegionKind
from lucky_keystone.families.choices import Choices
from lucky_keystone.mending.draft import Draft
from lucky_keystone.mending.make import make_mending
from lucky_keystone.mending.remedy import Wishes
from lucky_keystone.mending.steps import make_steps
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source

from ..helpers.drives import Built, MemoryDrive, build_drive
from ..helpers.judges import read_by_others
from .targets import Target, in_memory, used_spans

_STRUCTURES = (
    *(RegionKind.RESERVED, RegionKind.FAT1, RegionKind.FAT2, RegionKind.FOLDERS, RegionKind.MFT, RegionKind.BOOTCOPY),
    *(RegionKind.BITMAP, RegionKind.HEADER, RegionKind.CATALOG, RegionKind.ALTERNATE),
)
_LOOKED_INTO = 64 << 10


def mending_targets(folder: Path, disc: Path, app: Path) -> dict[str, Target]:
    """Make a target of every kind in the new folder `folder`, from a small installer's disc and an app."""
    folder.mkdir()
    source = open_source(disc)
    shapes = {
        "fat32": Choices(),
        "gpt": Choices(table="gpt", as_is=True),
        "ntfs": Choices(file_system="ntfs", firmware="bios"),
    }
    found = {
        f"mended {name} drive": _target(build_drive(source, folder / f"{name}.img", choices), source)
        for name, choices in shapes.items()
    }
    found["mended studio drive"] = _target(build_drive(open_source(app), folder / "studio.img"), None)
    return found


def _target(built: Built, source: Source | None) -> Target:
    drive = MemoryDrive.of(built.path)
    manifest = built.image.manifest_offset
    assert manifest is not None
    drive.data[manifest : 1 << 20] = bytes((1 << 20) - manifest)  # most drives have none
    end = drive.size
    spans = [(0, 512)] * 8 + [(512, 2048), (end - 512, 512), (end - 33 * 512, 512)] * 3
    for region in built.image.regions:
        if region.kind in _STRUCTURES:
            front = bytes(drive.data[region.offset : region.offset + min(region.size, _LOOKED_INTO)])
            spans += [(region.offset + at, size) for at, size in used_spans(front)][:60]
    pristine = {start: read_by_others(drive, start) for start in (v.planned.start for v in built.plan.volumes)}

    def use() -> None:
        drive.log.clear()
        mending = make_mending(drive, 512, silent, wishes=Wishes(source=source))
        if not mending.remedies:
            return
        make_steps(drive, mending.changes, 512)
        draft = Draft(drive, mending.changes)
        replaced = {path for remedy in mending.remedies for _, path in remedy.replaces}
        for start, right in pristine.items():
            before, after = read_by_others(drive, start), read_by_others(draft, start)
            whole = [path for path, data in right.items() if before.get(path) == data and path.upper() not in replaced]
            lost = [path for path in whole if after.get(path) != right[path]]
            assert lost == [], (lost, [remedy.code for remedy in mending.remedies])

    return Target(*in_memory(drive.data), spans, use)
