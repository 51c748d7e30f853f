"""A PC reduced to what boot code may rely on: a processor emulation, low memory, and a BIOS that can be made awkward.

Needs unicorn, which is optional (the extra 'rehearse'); only this module imports it. Calls that its BIOS
lacks are refused as firmware refuses them, and noted: what code does after that says nothing about a real machine.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from unicorn import UC_ARCH_X86, UC_HOOK_CODE, UC_HOOK_INSN, UC_HOOK_INTR, UC_MODE_16, UC_QUERY_TIMEOUT, Uc, UcError
from unicorn.x86_const import (
    UC_X86_INS_IN,
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

from ..content.contents import SizedReadable

LOADER = 0x20000
"""2000:0000, where boot records hand over to BOOTMGR."""

_ENTRY = 0x7C00
_TABLE = 0x7BE
"""Where code in sector 0 that has moved itself to 0000:0600 leaves the table."""
_RESET = 0xFFFF0
_SCREEN, _SCREEN_SIZE = 0xB8000, 80 * 25 * 2
_CARRY, _ZERO, _INTERRUPTS = 1, 1 << 6, 1 << 9
_ENTER = 0x1C0D
_LOOKS = (0x01, 0x11)
"""INT 16h: is there a key?"""
_TRUST = 0xBB
_HALT, _TO_ITSELF, _TO_HALT = b"\xf4", b"\xeb\xfe", (b"\xeb\xfd", b"\xeb\xfc")
_LONGEST = 10_000_000  # microseconds
_SECTOR = 512
_MOST_SAID = 4096  # characters: a screen and a half


class BootCodeFailed(Exception):
    """The boot code did what no firmware lets it do. The text says what."""


@dataclass
class EmulatedMachine:
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
    keys: int = 0
    """How often a key (Enter) is pressed before waits for one get no answer."""
    most_calls: int = 200_000
    """Calls of the BIOS: code that makes more is taken to run forever."""
    most_instructions: int = 30_000_000

    said: str = ""
    """What the boot code has shown on the screen."""
    reads: list[tuple[str, int, int]] = field(default_factory=list)
    """How ('42' or '02'), first sector, count of every read."""
    entered: bool = False
    """It has handed over to the loader at 2000:0000."""
    waiting: bool = False
    """It waits for a key."""
    gave_up: bool = False
    """It has handed back to the firmware, or stopped for good."""
    refused: bool = False
    """It asked the BIOS for something that this one does not have."""
    reads_before_key: int | None = None
    """How much it had read when it first asked for a key; None when it never did."""
    timed_out: bool = False
    """It was stopped by the clock, which says nothing of the code."""
    handed_on: bool = False
    """It has entered another boot sector at 0000:7C00."""

    def __post_init__(self) -> None:
        self._calls = 0
        self.cpu = Uc(UC_ARCH_X86, UC_MODE_16)
        self.cpu.mem_map(0, 1 << 20)
        self.cpu.mem_write(_RESET, b"\xcd\x19")
        self.cpu.hook_add(UC_HOOK_INTR, self._interrupt)
        self.cpu.hook_add(UC_HOOK_INSN, self._port, None, 1, 0, UC_X86_INS_IN)

    def start(self, successor: bytes = b"") -> EmulatedMachine:
        """Enter sector 0 at 0000:7C00 as firmware does: DL is the drive, nothing else can be relied on.

        The run ends where `successor`, the boot sector of the active partition say, is entered there in turn. Raises
        BootCodeFailed.
        """
        if successor:
            self._successor = successor
            self.cpu.hook_add(UC_HOOK_CODE, self._at_entry, begin=_ENTRY, end=_ENTRY)
        return self._run(bytes(self.drive.read_at(0, _SECTOR)))

    def start_volume(self, offset: int, entry: bytes) -> EmulatedMachine:
        """Enter the boot sector at byte `offset` as code in sector 0 does: SI points to the partition's `entry`.

        Raises BootCodeFailed.
        """
        self.cpu.mem_write(_TABLE, entry)
        self.cpu.reg_write(UC_X86_REG_SI, _TABLE)
        return self._run(bytes(self.drive.read_at(offset, _SECTOR)))

    def _run(self, sector: bytes) -> EmulatedMachine:
        self.cpu.mem_write(_ENTRY, sector)
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
            self.cpu.emu_start(_ENTRY, LOADER, timeout=_LONGEST, count=self.most_instructions)
        except UcError as error:
            raise BootCodeFailed(f"the processor stopped: {error}") from error
        self.timed_out = bool(self.cpu.query(UC_QUERY_TIMEOUT))
        here = self.get(UC_X86_REG_CS) * 16 + self.get(UC_X86_REG_IP)
        self.entered = here == LOADER
        self.gave_up = self.gave_up or self._is_stopped(here)
        return self

    def _is_stopped(self, here: int) -> bool:
        """Tell whether it has stopped for good: halted without interrupts, or in a loop that does nothing."""
        around = self.memory(max(here - 1, 0), 3)
        is_halted = around[:1] == _HALT
        if is_halted and not self.get(UC_X86_REG_EFLAGS) & _INTERRUPTS:
            return True
        return around[1:] == _TO_ITSELF or (is_halted and around[1:] in _TO_HALT)

    def _at_entry(self, _cpu: Uc, _address: int, _size: int, _data: object) -> None:
        if self.memory(_ENTRY, _SECTOR) == self._successor:
            self.handed_on = True
            self.cpu.emu_stop()

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
        _require(self._calls <= self.most_calls, "it calls the BIOS forever")
        if number == 0x10:
            if self.get(UC_X86_REG_AH) == 0x0E:
                self.said += chr(self.get(UC_X86_REG_AL))
                _require(len(self.said) <= _MOST_SAID, "it prints forever")
        elif number == 0x12:
            self.cpu.reg_write(UC_X86_REG_AX, self.low_memory_kib)
        elif number == 0x13:
            self._disk()
        elif number == 0x15:  # nothing of it is there: older firmware had none either
            self.refused = True
            self._carry(True)
        elif number == 0x16:
            self._keyboard()
        elif number in (0x18, 0x19):
            self.gave_up = True
            self.cpu.emu_stop()
        elif number == 0x1A:  # a trusted platform module, which older machines do not have either; a clock
            self.refused = self.refused or self.get(UC_X86_REG_AH) != _TRUST
            self._carry(True)
        else:
            raise BootCodeFailed(f"it called INT {number:02X}h, which a simulated BIOS does not have")

    def _port(self, _cpu: Uc, _port: int, _size: int, _data: object) -> int:
        self.refused = True
        return 0

    @property
    def does_nothing(self) -> bool:
        """True when it has neither called the BIOS nor shown anything by itself."""
        return not self._calls and not self.refused and not any(self.memory(_SCREEN, _SCREEN_SIZE))

    def _keyboard(self) -> None:
        if self.reads_before_key is None:
            self.reads_before_key = len(self.reads)
        if not self.keys:
            self.waiting = True
            self.cpu.emu_stop()
            return
        if self.get(UC_X86_REG_AH) not in _LOOKS:
            self.keys -= 1
        self.cpu.reg_write(UC_X86_REG_AX, _ENTER)
        self.cpu.reg_write(UC_X86_REG_EFLAGS, self.get(UC_X86_REG_EFLAGS) & ~_ZERO)

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
