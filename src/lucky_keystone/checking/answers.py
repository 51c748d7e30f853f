"""What a drive answers setup with: told, because a machine is installed otherwise for it."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import KeystoneError
from ..setup.answer_file import LARGEST, NAME, commands_of
from ..setup.folders import SETUP_FOLDERS
from ..setup.waivers import waived_by
from ..volumes.volume import Entry, FileOnVolume
from .codes import Code
from .found import FoundVolume
from .report import Place, Report


def note_answers(found: Sequence[FoundVolume], report: Report) -> None:
    """Note answer files, and the hardware checks that they waive, whoever put them there."""
    for volume in found:
        for entry in volume.entries:
            if entry.is_folder or entry.path.lower() not in _PLACES:
                continue
            waived = waived_by(commands_of(_bytes_of(volume, entry)))
            checks = ", ".join(each.shown for each in waived)
            what = f"{entry.path} answers setup's questions"
            what += f", and waives hardware checks: {checks}." if waived else "."
            report.note(Code.SETUP_ANSWERED, "setup", what, Place(volume.partition.number, file=entry.path))
            return  # the other places and volumes have the same file


_PLACES = {NAME, *(f"{folder}/{NAME}" for folder in SETUP_FOLDERS)}


def _bytes_of(volume: FoundVolume, entry: Entry) -> bytes:
    try:
        return FileOnVolume(volume.volume, entry).read_at(0, min(entry.size, LARGEST))
    except KeystoneError:  # what cannot be read is reported elsewhere
        return b""
