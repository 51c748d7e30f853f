"""A PC reduced to what boot code may rely on: a processor emulation, low memory, and a BIOS that can be made awkward.

Needs unicorn, which is optional (the extra 'rehearse'); only this module imports it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from unicorn import UC_ARCH_X86, UC_HOOK_INTR, UC_MODE_16, Uc, UcError
from unicorn.x86_const import (
    UC_X86_REG_AH,
    UC_X86_REG_AL,
    UC_X86_REG_AX,
    UC_X86_REG_BX,
    UC_X86_REG_CH,
    UC_X86_REG_CL,
    UC_X86_REG_CS,
    UC_X86_REG_CX,
    UC_X86_REG_DH,
    UC_X86_REG_DL,
    UC_X86_REG_DS,
    UC_X86_REG_EFLAGS,
    UC_X86_REG_ES,
    UC_X86_REG_IP,
    UC_X86_REG_SI,
    UC_X86_REG_SP,
    UC_X86_REG_SS,
)

from ..content import SizedReadable

LOADER = 0x20000
"""2000:0000, where boot records hand over to BOOTMGR."""

_CARRY = 1
_MOST_INSTRUCTIONS = 30_000_000
_LONGEST = 10_000_000  # microseconds
_SECTOR = 512
_MOST_SAID = 4096  # characters: a screen and a half
_MOST_CALLS = 200_000


class BootCodeFailed(Exception):
    """The boot code did what no firmware lets it do. The text says what."""


@dataclass
class Machine:
    """Runs a drive's boot code until it enters the loader, waits for a key, fails, or has run for too long."""

    drive: SizedReadable = field(repr=False)
    extended_reads: bool = True
    """INT 13h AH=41h answers that AH=42h is there."""
    extended_reads_fail: bool = False
    fails_from: int = 1 << 40
    """Sectors from here on cannot be read."""
    heads: int = 255
    track: int = 63
    low_memory_kib: int = 639
    drive_number: int = 0x80

    said: str = ""
    """What the boot code has shown on the screen."""
    reads: list[tuple[str, int, int]] = field(default_factory=list)
    """How ('42' or '02'), first sector, count of every read."""
    entered: bool = False
    """It has handed over to the loader at 2000:0000."""
    waiting: bool = False
    """It waits for a key."""

    def __post_init__(self) -> None:
        self._calls = 0
        self.cpu = Uc(UC_ARCH_X86, UC_MODE_16)
        self.cpu.mem_map(0, 1 << 20)
        self.cpu.hook_add(UC_HOOK_INTR, self._interrupt)

    def start(self) -> Machine:
        """Enter sector 0 at 0000:7C00 as firmware does: DL is the drive, nothing else can be relied on.

        Raises BootCodeFailed.
        """
        self.cpu.mem_write(0x7C00, bytes(self.drive.read_at(0, _SECTOR)))
        for register, value in (
            (UC_X86_REG_SS, 0x3000),
            (UC_X86_REG_SP, 0x400),
            (UC_X86_REG_DS, 0x1234),
            (UC_X86_REG_ES, 0x4321),
        ):
            self.cpu.reg_write(register, value)
        self.cpu.reg_write(UC_X86_REG_DL, self.drive_number)
        self.cpu.reg_write(UC_X86_REG_EFLAGS, 0x402)  # direction flag set
        try:
            self.cpu.emu_start(0x7C00, LOADER, timeout=_LONGEST, count=_MOST_INSTRUCTIONS)
        except UcError as error:
            raise BootCodeFailed(f"the processor stopped: {error}") from error
        here = self.get(UC_X86_REG_CS) * 16 + self.get(UC_X86_REG_IP)
        self.entered = here == LOADER
        return self

    def memory(self, address: int, size: int) -> bytes:
        """Return `size` bytes of the machine's memory."""
        return bytes(self.cpu.mem_read(address, size))

    def get(self, register: int) -> int:
        """Return a register's value."""
        return int(self.cpu.reg_read(register))

    # -- the BIOS ------------------------------------------------------------------------------------------------

    def _carry(self, on: bool) -> None:
        flags = self.get(UC_X86_REG_EFLAGS)
        self.cpu.reg_write(UC_X86_REG_EFLAGS, flags | _CARRY if on else flags & ~_CARRY)

    def _interrupt(self, _cpu: Uc, number: int, _data: object) -> None:
        self._calls += 1
        _require(self._calls <= _MOST_CALLS, "it calls the BIOS forever")
        if number == 0x10:
            if self.get(UC_X86_REG_AH) == 0x0E:
                self.said += chr(self.get(UC_X86_REG_AL))
                _require(len(self.said) <= _MOST_SAID, "it prints forever")
        elif number == 0x12:
            self.cpu.reg_write(UC_X86_REG_AX, self.low_memory_kib)
        elif number == 0x13:
            self._disk()
        elif number == 0x15:  # nothing of it is there: older firmware had none either
            self._carry(True)
        elif number in (0x16, 0x18, 0x19):  # waits for a key; gives up
            self.waiting = number == 0x16
            self.cpu.emu_stop()
        else:
            raise BootCodeFailed(f"it called INT {number:02X}h, which a simulated BIOS does not have")

    def _disk(self) -> None:
        _require(self.get(UC_X86_REG_DL) == self.drive_number, f"it asked for drive {self.get(UC_X86_REG_DL):02X}h")
        function = self.get(UC_X86_REG_AH)
        if function == 0x00:
            self._carry(False)
        elif function == 0x08:
            cylinders = 1023
            self.cpu.reg_write(UC_X86_REG_CH, cylinders & 0xFF)
            self.cpu.reg_write(UC_X86_REG_CL, self.track | cylinders >> 2 & 0xC0)
            self.cpu.reg_write(UC_X86_REG_DH, self.heads - 1)
            self.cpu.reg_write(UC_X86_REG_ES, 0xF000)  # it may point to a table of the firmware's
            self._carry(False)
        elif function == 0x41:
            self._carry(not self.extended_reads)
            if self.extended_reads:
                self.cpu.reg_write(UC_X86_REG_BX, 0xAA55)
                self.cpu.reg_write(UC_X86_REG_CX, 1)
        elif function == 0x42:
            _require(self.extended_reads, "it read by AH=42h, which was reported as absent")
            packet = self.memory(self.get(UC_X86_REG_DS) * 16 + self.get(UC_X86_REG_SI), 16)
            _require(packet[0] == 16, f"its disk address packet says {packet[0]} bytes")
            offset, segment = int.from_bytes(packet[4:6], "little"), int.from_bytes(packet[6:8], "little")
            count, lba = int.from_bytes(packet[2:4], "little"), int.from_bytes(packet[8:16], "little")
            self._read("42", lba, count, segment * 16 + offset, fails=self.extended_reads_fail)
        elif function == 0x02:
            cl = self.get(UC_X86_REG_CL)
            cylinder, sector = self.get(UC_X86_REG_CH) | (cl & 0xC0) << 2, cl & 0x3F
            head = self.get(UC_X86_REG_DH)
            _require(
                1 <= sector <= self.track and head < self.heads,
                f"it read head {head}, sector {sector}, which do not exist",
            )
            lba = (cylinder * self.heads + head) * self.track + sector - 1
            self._read(
                "02", lba, self.get(UC_X86_REG_AL), self.get(UC_X86_REG_ES) * 16 + self.get(UC_X86_REG_BX), fails=False
            )
        else:
            raise BootCodeFailed(f"it called INT 13h AH={function:02X}h, which a simulated BIOS does not have")

    def _read(self, how: str, lba: int, count: int, address: int, *, fails: bool) -> None:
        _require(1 <= count <= 127, f"it read {count} sectors at once; some firmware takes no more than 127")
        end = address + _SECTOR * count
        _require(address // 0x10000 == (end - 1) // 0x10000, f"its read to {address:05X}h crosses 64 KiB")
        self.reads.append((how, lba, count))
        fails = fails or lba + count > self.fails_from or (lba + count) * _SECTOR > self.drive.size
        self._carry(fails)
        if not fails:
            self.cpu.mem_write(address, bytes(self.drive.read_at(lba * _SECTOR, count * _SECTOR)))
            self.cpu.ctl_remove_cache(address, end)  # what was translated of the old bytes


def _require(holds: bool, otherwise: str) -> None:
    if not holds:
        raise BootCodeFailed(otherwise)
