"""Tells what machine a UEFI loader is for, from its own headers (PE/COFF specification, "COFF File Header")."""

from __future__ import annotations

from ..common.record import Record, raw, record, u16, u32
from ..content.contents import SizedReadable

MACHINES = {0x8664: "x64", 0x014C: "x86", 0xAA64: "arm64", 0x01C2: "arm"}
"""PE machine types by the architecture they stand for."""

REMOVABLE_LOADERS = {"x64": "bootx64.efi", "x86": "bootia32.efi", "arm64": "bootaa64.efi"}
"""Loader names of removable media below EFI/BOOT (UEFI 2.10, 3.5.1.1)."""

SUBSYSTEM_EFI_APPLICATION = 10


@record(size=24)
class CoffHeader(Record):
    """PE signature and COFF file header."""

    signature: bytes = raw(0, 4, "PE and two zeros")
    machine: int = u16(4, "key of MACHINES")
    section_count: int = u16(6, "")
    time_stamp: int = u32(8, "")
    symbol_table: int = u32(12, "")
    symbol_count: int = u32(16, "")
    optional_size: int = u16(20, "bytes of the optional header")
    characteristics: int = u16(22, "")


@record(size=40)
class SectionHeader(Record):
    """Section header (PE/COFF specification, "Section Table"), as far as it is used."""

    name: bytes = raw(0, 8, "")
    virtual: bytes = raw(8, 8, "size and place in memory")
    raw_size: int = u32(16, "bytes in the file")
    raw_offset: int = u32(20, "bytes from the start of the file")
    rest: bytes = raw(24, 16, "relocations, line numbers, characteristics")


def loader_architecture(content: SizedReadable) -> str:
    """Return the architecture a PE file is made for, '' when it is not a UEFI application. Reads headers only."""
    head = content.read_at(0, min(64, content.size))
    if len(head) < 64 or head[:2] != b"MZ":
        return ""
    offset = int.from_bytes(head[60:64], "little")
    if offset + CoffHeader.SIZE + 70 > content.size:
        return ""
    data = content.read_at(offset, CoffHeader.SIZE + 70)
    coff = CoffHeader.unpack(data)
    subsystem = int.from_bytes(data[CoffHeader.SIZE + 68 : CoffHeader.SIZE + 70], "little")
    if coff.signature != b"PE\0\0" or subsystem != SUBSYSTEM_EFI_APPLICATION:
        return ""
    return MACHINES.get(coff.machine, "")


def loader_fault(content: SizedReadable) -> str:
    """Return why a file known to `loader_architecture` cannot be whole, '' when all its sections lie within it."""
    head = content.read_at(0, 64)
    offset = int.from_bytes(head[60:64], "little")
    coff = CoffHeader.unpack(content.read_at(offset, CoffHeader.SIZE))
    table = offset + CoffHeader.SIZE + coff.optional_size
    if coff.section_count == 0 or table + SectionHeader.SIZE * coff.section_count > content.size:
        return "its section table does not lie in the file"
    data = content.read_at(table, SectionHeader.SIZE * coff.section_count)
    for number in range(coff.section_count):
        section = SectionHeader.unpack(data, number * SectionHeader.SIZE)
        if section.raw_offset + section.raw_size > content.size:
            return (
                f"section {number + 1} ends at byte {section.raw_offset + section.raw_size}, the file at {content.size}"
            )
    return ""
