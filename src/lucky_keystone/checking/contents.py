"""Compares every byte with the manifest; what differs is judged by the checker of its volume."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.progress import Progress
from ..content.contents import SizedReadable
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..manifest.format import Manifest
from .codes import Code
from .found import FoundVolume
from .report import Place, Report
from .telling import LISTED, files_at
from .volumes.checker import WrongBlock
from .volumes.checkers import CHECKERS


def check_contents(drive: Medium, manifest: Manifest, progress: Progress) -> list[WrongBlock]:
    """Read everything the manifest covers; return the blocks that differ."""
    blocks = list(manifest.blocks())
    wrong = read_back(
        [(offset, size, digest) for _, offset, size, digest in blocks], drive, progress, "checking contents"
    )
    return [blocks[index] for index in wrong]


def judge(
    drive: SizedReadable,
    manifest: Manifest,
    wrong: Sequence[WrongBlock],
    volumes: Sequence[FoundVolume],
    report: Report,
) -> None:
    """Add a finding for each block of `wrong`: changed by use, or different from what was written."""
    notes = sorted(manifest.about.volumes, key=lambda note: note.offset)
    if not notes:
        _judge_image(wrong, volumes, report)
        return
    by_volume: dict[int, list[WrongBlock]] = {}
    for block in wrong:
        number = max((index for index, note in enumerate(notes) if note.offset <= block[1]), default=0)
        by_volume.setdefault(number, []).append(block)  # what lies in front of all volumes goes with the first
    for number, blocks in by_volume.items():
        note = notes[number]
        found = next((found for found in volumes if found.volume.offset == note.offset), None)
        CHECKERS[note.file_system].judge(drive, blocks, note, found, report)


def _judge_image(wrong: Sequence[WrongBlock], volumes: Sequence[FoundVolume], report: Report) -> None:
    """Of a raw image nothing is known but its bytes: a computer that mounts one of its volumes may well change some."""
    for _, offset, size, _ in wrong[:LISTED]:
        inside = next((found for found in volumes if _covers(found, offset, size)), None)
        what = f"bytes {offset} to {offset + size - 1} differ from what was written"
        names = files_at(inside, offset, size) if inside else []
        if inside is not None:
            what += f", in partition {inside.partition.number}"
            what += f" ({', '.join(names[:3])}{' and others' if len(names) > 3 else ''})" if names else ""
        advice = (
            "A computer that mounted this volume changes it; if none did, the drive lost data: write the image again."
            if inside
            else "The drive lost data or something wrote over it: write the image again."
        )
        number = inside.partition.number if inside else None
        place = Place(number, offset, size, names[0] if len(names) == 1 else "")
        report.fault(Code.CONTENT_IMAGE, "image", what + ".", advice, place)
    if len(wrong) > LISTED:
        what = f"{len(wrong) - LISTED} more blocks differ from what was written."
        report.fault(Code.CONTENT_IMAGE, "image", what, "Write the image again, or onto another drive.")


def _covers(found: FoundVolume, offset: int, size: int) -> bool:
    start = found.volume.offset
    return start <= offset + size - 1 and offset < start + found.volume.size
