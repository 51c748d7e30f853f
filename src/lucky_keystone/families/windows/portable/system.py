"""An edition as a system that is applied: its tree, what starts it, and the table and firmware that follow."""

from __future__ import annotations

from msgspec import Struct

from ....common.errors import SourceError, UsageError
from ....common.remembering import remembered
from ....common.units import shown_size
from ....content.tree import Folder
from ....wim.applied import applied_tree
from ....wim.read import Edition
from ....wim.resources import Resources
from ....wim.whole import WholeImage
from ...choices import Choices
from ...family import DriveShape
from .boot_files import has_bios, uefi_architecture


class System(Struct, frozen=True):
    """An edition that is to be applied."""

    image: WholeImage
    edition: Edition
    tree: Folder
    architecture: str
    """Of its UEFI loader; '' for none."""
    has_bios: bool


@remembered
def _read(image: WholeImage, index: int) -> System:
    edition = next(each for each in image.editions if each.index == index)
    tree = applied_tree(Resources(image), image.tree(edition))
    return System(image, edition, tree, uefi_architecture(tree), has_bios(tree))


def system_of(image: WholeImage, edition: Edition) -> System:
    """Return an edition as it is applied. Raises SourceError for one that nothing could start."""
    system = _read(image, edition.index)
    if not system.architecture and not system.has_bios:
        raise SourceError(
            f"Edition {edition.index} ({edition.name}) has no boot programs in Windows/Boot, or no winload in "
            "Windows/System32.",
            advice="It is not a system that can be started; choose another edition.",
        )
    return system


def shape_of(system: System, choices: Choices, drive: DriveShape) -> tuple[str, str, dict[str, str]]:
    """Return table and firmware, and why."""
    reasons: dict[str, str] = {}
    bios = system.has_bios and not drive.bios_fault
    if choices.firmware == "bios" and not bios:
        why = drive.bios_fault or "the edition has no boot programs for BIOS machines"
        raise UsageError(f"--firmware bios: {why}.", advice="Choose --firmware uefi.")
    if choices.firmware == "uefi" and not system.architecture:
        raise UsageError(
            "--firmware uefi: the edition has no boot programs for UEFI machines.", advice="Choose --firmware bios."
        )
    firmware = choices.firmware
    able = "both" if bios and system.architecture else "bios" if bios else "uefi"
    if choices.firmware == "both" and able != "both":
        raise UsageError(
            f"--firmware both: the edition starts on {able.upper()} machines only.", advice=f"Choose --firmware {able}."
        )
    table = choices.table
    if table is None:
        to_gpt = bool(drive.beyond_mbr) and (firmware or able) == "uefi"
        table = "gpt" if to_gpt else "mbr"
        reasons["table"] = "both BIOS and UEFI machines start from it"
        if to_gpt:
            reasons["table"] = f"an MBR would leave {shown_size(drive.beyond_mbr)} of this drive unused"
        elif able != "both":
            reasons["table"] = f"{able.upper()} machines start from it"
    if firmware is None:
        firmware = "uefi" if table == "gpt" else able
        reasons["firmware"] = "one drive serves old and new machines"
        if table == "gpt":
            reasons["firmware"] = "BIOS machines cannot start Windows from a GPT drive"
        elif able != "both":
            reasons["firmware"] = "the edition has boot programs for no other"
    if table == "gpt" and not system.architecture:
        raise UsageError("--table gpt: the edition starts on BIOS machines only.", advice="Choose --table mbr.")
    return table, firmware, reasons
