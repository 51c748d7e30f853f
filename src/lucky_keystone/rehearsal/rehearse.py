"""Rehearses a BIOS start: what the drive's boot code did, step by step in words, and where it stopped and why."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ..common.errors import KeystoneError, UsageError
from ..content.contents import SizedReadable
from ..tables.table import Table, read_table
from ..volumes.kinds import open_volume
from ..volumes.volume import Entry, Volume

_SECTOR = 512


class Rehearsal(Struct, frozen=True):
    """What happened."""

    starts: bool
    """True when the loader was entered, whole and with what it relies on in place."""
    steps: tuple[str, ...]
    end: str
    """Where it ended and why, as one sentence."""
    sectors_read: int


def rehearse_bios(drive: SizedReadable, sector_size: int) -> Rehearsal:
    """Start `drive` as a BIOS would, without a machine.

    Raises UsageError when the processor emulation is not installed.
    """
    try:
        from ..boot.machine import BootCodeFailed, EmulatedMachine
    except ImportError as error:
        raise UsageError(
            "The processor emulation for rehearsals is not installed.",
            advice="Where pipx installed it: pipx inject lucky-keystone unicorn; elsewhere: pip install unicorn.",
        ) from error
    if sector_size != _SECTOR:
        return Rehearsal(
            False, (), f"BIOS firmware reads drives in sectors of 512 bytes only; this one has {sector_size}.", 0
        )
    if drive.read_at(510, 2) != b"\x55\xaa":
        return Rehearsal(
            False, ("Sector 0 has no AA55h at its end.",), "Firmware does not regard the drive as bootable.", 0
        )
    machine = EmulatedMachine(drive)
    try:
        machine.start()
        failure = ""
    except BootCodeFailed as fault:
        failure = str(fault)
    story = _Story(drive, sector_size)
    steps = ["Sector 0 is loaded to 0000:7C00 and entered.", *story.progress(machine.reads)]
    if machine.said.strip():
        steps.append(f"On the screen: {machine.said.strip()}")
    count = sum(sectors for _, _, sectors in machine.reads)
    if failure:
        return Rehearsal(False, tuple(steps), f"The boot code failed: {failure}.", count)
    if not machine.entered:
        why = (
            "waits for a key"
            if machine.waiting
            else "stopped with an error"
            if machine.said
            else "runs forever, or stopped silently"
        )
        return Rehearsal(False, tuple(steps), f"It {why} and does not start.", count)
    wrong = _fault_at_hand_over(story, machine.memory)
    if wrong:
        return Rehearsal(False, (*steps, "It jumps to 2000:0000."), wrong, count)
    size = f"{story.loader.size:,} bytes" if story.loader else "what it loaded"
    return Rehearsal(
        True,
        tuple(steps),
        f"It starts BOOTMGR at 2000:0000: {size}, whole, the boot sector still at 0000:7C00.",
        count,
    )


def _fault_at_hand_over(story: _Story, memory: Callable[[int, int], bytes]) -> str:
    """Return what the loader would miss; '' when it has what it relies on."""
    if story.volume is None or story.loader is None:
        return "It jumps to something at 2000:0000, but no BOOTMGR of this drive can be compared with it."
    loaded, at = True, 0x20000
    for piece in story.volume.pieces(story.loader):
        if at + len(piece) > 0xA0000:
            return "BOOTMGR is larger than low memory."
        loaded = loaded and memory(at, len(piece)) == bytes(piece)
        at += len(piece)
    if not loaded:
        return "What is at 2000:0000 is not BOOTMGR as it is on the drive."
    here = memory(0x7C00, 90)
    return (
        ""
        if here == story.boot_sector[:90]
        else "The volume's boot sector is no longer at 0000:7C00, where loaders look for it."
    )


class _Story:
    """Puts readings into words: which part of the drive each belongs to."""

    def __init__(self, drive: SizedReadable, sector_size: int) -> None:
        self.table: Table | None = read_table(drive, sector_size)
        self.volume: Volume | None = None
        self.loader: Entry | None = None
        self.boot_sector = b""
        actives = [partition for partition in self.table.partitions if partition.active] if self.table else []
        self.start = actives[0].first_lba if len(actives) == 1 else -1
        if self.start < 0:
            return
        try:
            self.boot_sector = drive.read_at(self.start * _SECTOR, _SECTOR)
            size = min(actives[0].sector_count * _SECTOR, drive.size - self.start * _SECTOR)
            _, self.volume = open_volume(drive, self.start * _SECTOR, size)
            self.loader = self.volume.find("bootmgr")
        except KeystoneError:
            pass

    def progress(self, reads: list[tuple[str, int, int]]) -> list[str]:
        """Return a sentence for each run of readings of one part."""
        words: list[tuple[str, str, int, int, int]] = []
        for how, first, count in reads:
            what = self._part(first)
            if words and words[-1][:2] == (what, how):
                _, _, start, sectors, times = words[-1]
                words[-1] = (what, how, start, sectors + count, times + 1)
            else:
                words.append((what, how, first, count, 1))
        return [self._sentence(*item) for item in words]

    def _sentence(self, what: str, how: str, first: int, sectors: int, times: int) -> str:
        way = "" if how == "42" else ", by cylinder, head and sector"
        pieces = f" in {times} readings" if times > 1 else ""
        return f"It reads {what}: {sectors} sector{'s' if sectors > 1 else ''} from {first} on{pieces}{way}."

    def _part(self, sector: int) -> str:
        if self.start < 0 or sector < self.start:
            return "in front of any active partition"
        if sector == self.start:
            return "the active partition's boot sector"
        if self.volume is None:
            return "the partition"
        own = self.volume.part_at((sector - self.start) * _SECTOR)
        if own:
            return own
        cluster = self.volume.cluster_at(sector * _SECTOR)
        for entry, name in ((self.loader, "BOOTMGR"), (self.volume.root(), "the root folder, to look for BOOTMGR")):
            if entry is not None and any(run.first <= cluster < run.first + run.count for run in entry.runs):
                return name
        return "somewhere else in the volume"
