"""Guards: every reason, every override, and no way around them by plugging, renumbering and asking again."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, invariant, rule
from msgspec.structs import replace

from lucky_keystone.common.errors import KeystoneError, ProtectError
from lucky_keystone.drives.drive import Drive, Hardware
from lucky_keystone.drives.guards import OVERRIDABLE, Guard, admit, refusals
from lucky_keystone.drives.opening import open_confirmed

STICK = Drive(
    path=Path("/dev/sdb"),
    model="Gangway Pro",
    serial="GP-1",
    size=16_000_000_000,
    sector_size=512,
    bus="USB",
    speed="",
    removable=True,
    internal=False,
    holds_system=False,
    read_only=False,
    mounts=(),
)
CAUSES: dict[Guard, dict[str, object]] = {
    Guard.SYSTEM: {"holds_system": True},
    Guard.INTERNAL: {"internal": True},
    Guard.IN_USE: {"mounts": ("/media/timetables",)},
    Guard.DEPENDED_ON: {"uses": ("is part of the RAID md0",)},
    Guard.MEMBER: {"members": ("carries a member of a ZFS pool",)},
    Guard.READ_ONLY: {"read_only": True},
}
OUTSIDE = (Guard.SOURCE, Guard.TOO_SMALL, Guard.AMBIGUOUS)


def test_every_set_of_causes_with_every_set_of_overrides() -> None:
    """512 situations with 8 sets of overrides each: written only when what is wrong is lifted, guard by guard."""
    for causes in itertools.chain.from_iterable(itertools.combinations([*CAUSES, *OUTSIDE], n) for n in range(10)):
        changed = {key: value for cause in causes for key, value in CAUSES.get(cause, {}).items()}
        drive = replace(STICK, **changed)
        twin = replace(drive, path=Path("/dev/sdc"))
        among = (drive, twin) if Guard.AMBIGUOUS in causes else (drive,)
        needed = drive.size + 1 if Guard.TOO_SMALL in causes else 0
        source = Guard.SOURCE in causes
        told = refusals(drive, among=among, needed=needed, holds_source=source)
        assert {refusal.guard for refusal in told} == set(causes)
        assert all(refusal.reason and refusal.way_out.endswith(".") for refusal in told)
        for lifted in itertools.chain.from_iterable(itertools.combinations(OVERRIDABLE, n) for n in range(4)):
            if set(causes) <= set(lifted):
                assert admit(drive, among, needed=needed, lifted=lifted, holds_source=source) == drive
            else:
                with pytest.raises(ProtectError, match="is protected"):
                    admit(drive, among, needed=needed, lifted=lifted, holds_source=source)


def test_the_system_disk_has_no_override() -> None:
    assert {Guard.SYSTEM, Guard.SOURCE, Guard.AMBIGUOUS, Guard.DEPENDED_ON}.isdisjoint(OVERRIDABLE)
    with pytest.raises(AssertionError, match="no override"):
        admit(STICK, [STICK], lifted={Guard.SYSTEM})


@pytest.mark.parametrize(
    ("now", "told"),
    [
        ([], "was disconnected"),
        ([replace(STICK, path=Path("/dev/sdd"))], "its path changed"),
        ([replace(STICK, volumes=("FAT32 'TIMETABLES' 14.9 GiB",))], "something else is on it"),
        ([replace(STICK, speed="480 Mbit/s")], "its description changed"),
        ([STICK, replace(STICK, path=Path("/dev/sdc"))], "cannot be told apart"),
    ],
)
def test_what_changed_since_it_was_confirmed_is_refused(now: list[Drive], told: str) -> None:
    with pytest.raises(ProtectError, match=told):
        admit(STICK, now)


# -- a bench where drives come and go at the worst moments -----------------------------------------------------------


@dataclass
class Device:
    """A drive itself, wherever it is plugged in."""

    drive: Drive
    number: int
    written: bool = False


class Bench:
    """A host whose drives are re-plugged between any two of its answers. A handle stays with its hardware."""

    def __init__(self) -> None:
        self.plugged: dict[Path, Device] = {}
        self.events: list[tuple[str, int]] = []
        self.all: list[Device] = []

    def _happen(self) -> None:
        if not self.events:
            return
        kind, which = self.events.pop(0)
        places = sorted(self.plugged)
        if kind == "swap" and len(places) > 1:
            one, other = places[which % len(places)], places[(which + 1) % len(places)]
            self.plugged[one], self.plugged[other] = self.plugged[other], self.plugged[one]
        elif kind == "unplug" and places:
            del self.plugged[places[which % len(places)]]
        elif kind == "mount" and places:
            hardware = self.plugged[places[which % len(places)]]
            hardware.drive = replace(hardware.drive, mounts=("/media/x",))
        elif kind == "plug":
            absent = [hardware for hardware in self.all if hardware not in self.plugged.values()]
            free = next(
                path for path in map(Path, (f"/dev/sd{letter}" for letter in "abcdefgh")) if path not in self.plugged
            )
            if absent:
                self.plugged[free] = absent[which % len(absent)]

    def drives(self) -> tuple[Drive, ...]:
        listed = tuple(replace(hardware.drive, path=path) for path, hardware in sorted(self.plugged.items()))
        self._happen()
        return listed

    def disks_below(self, path: Path) -> frozenset[Path]:
        return frozenset(place for place, hardware in self.plugged.items() if hardware.drive.holds_system)

    def unmount(self, drive: Drive) -> None:
        self._happen()
        hardware = self.plugged.get(drive.path)
        if hardware is not None:
            hardware.drive = replace(hardware.drive, mounts=())

    def open(self, drive: Drive, *, write: bool) -> Handle:
        self._happen()
        hardware = self.plugged.get(drive.path)
        if hardware is None:
            raise ProtectError("not there")
        self._happen()
        return Handle(hardware)


class Handle:
    def __init__(self, hardware: Device) -> None:
        self._hardware = hardware

    def identity(self) -> Hardware:
        return self._hardware.drive.identity

    def write(self) -> None:
        self._hardware.written = True

    def close(self) -> None:
        pass


class Workshop(RuleBasedStateMachine):
    """Lists, confirms, and writes, while drives come and go. A drive that was not confirmed is never written."""

    confirmations = Bundle("confirmations")

    def __init__(self) -> None:
        super().__init__()
        self.bench = Bench()
        self.confirmed: set[int] = set()

    @rule(
        model=st.sampled_from(["A", "B"]),
        serial=st.sampled_from(["", "1", "2"]),
        system=st.sampled_from([False, False, True]),
        internal=st.sampled_from([False, False, True]),
    )
    def a_drive_is_bought(self, model: str, serial: str, system: bool, internal: bool) -> None:
        if len(self.bench.all) < 6:
            drive = replace(STICK, model=model, serial=serial, holds_system=system, internal=internal)
            self.bench.all.append(Device(drive, len(self.bench.all)))
            self.bench.events = [("plug", 0)]
            self.bench.drives()

    @rule(kind=st.sampled_from(["plug", "plug", "unplug", "swap", "mount"]), which=st.integers(0, 5))
    def something_is_plugged(self, kind: str, which: int) -> None:
        self.bench.events = [(kind, which)]
        self.bench.drives()

    @rule(target=confirmations, which=st.integers(0, 5))
    def the_technician_confirms(self, which: int) -> Drive | None:
        """What is confirmed is the drive that was listed at that moment, known by what was shown of it."""
        plugged = sorted(self.bench.plugged.items())
        if not plugged:
            return None
        path, hardware = plugged[which % len(plugged)]
        self.confirmed.add(hardware.number)
        return replace(hardware.drive, path=path)

    @rule(
        confirmed=confirmations,
        events=st.lists(
            st.tuples(st.sampled_from(["none", "swap", "swap", "unplug", "plug", "mount"]), st.integers(0, 5)),
            max_size=6,
        ),
        lifted=st.sets(st.sampled_from(sorted(OVERRIDABLE, key=str))),
    )
    def a_build_begins(self, confirmed: Drive | None, events: list[tuple[str, int]], lifted: set[Guard]) -> None:
        if confirmed is None:
            return
        self.bench.events = list(events)
        try:
            handle = open_confirmed(self.bench, confirmed, lifted=lifted, sources=[Path("installer.iso")])  # type: ignore[arg-type]
        except KeystoneError:
            return
        finally:
            self.bench.events = []
        handle.write()  # type: ignore[attr-defined]
        assert handle.identity() == confirmed.identity
        assert Guard.INTERNAL in lifted or not confirmed.internal

    @invariant()
    def only_confirmed_drives_are_written(self) -> None:
        twins = {hardware.number: hardware.drive.identity for hardware in self.bench.all}
        asked_for = {twins[number] for number in self.confirmed}
        for hardware in self.bench.all:
            assert not hardware.written or hardware.drive.identity in asked_for
            assert not hardware.written or not hardware.drive.holds_system


TestWorkshop = Workshop.TestCase
TestWorkshop.settings = settings(max_examples=300, stateful_step_count=30)
