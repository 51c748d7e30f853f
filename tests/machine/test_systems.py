"""What Windows and macOS answer of a machine, as recorded: what is known, what is not, and what is said of that."""

from __future__ import annotations

import plistlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from lucky_keystone.common.errors import NoRights
from lucky_keystone.drives.drive import Drive
from lucky_keystone.machine.facts import MachineFacts
from lucky_keystone.machine.macos import MacMachine
from lucky_keystone.machine.windows import (
    AMD64,
    ARM64,
    AVX,
    BIOS,
    GLOBAL,
    INTEL,
    SECURITY,
    SSE4_2,
    UEFI,
    WindowsMachine,
)

STATE = (r"SYSTEM\CurrentControlSet\Control\SecureBoot\State", "UEFISecureBootEnabled")
BUILD = (r"SOFTWARE\Microsoft\Windows NT\CurrentVersion", "CurrentBuildNumber")
NAMES: dict[tuple[str, str], str | int] = {
    (r"HARDWARE\DESCRIPTION\System\BIOS", "SystemProductName"): "Skiff 14 ",
    (r"HARDWARE\DESCRIPTION\System\CentralProcessor\0", "ProcessorNameString"): "Ferry 9  ",
    BUILD: "26100",
}


def disk(size: int, *, internal: bool) -> Drive:
    return Drive(
        Path("disk"), "Keelson", "K", size, 512, "SATA", "", removable=False, internal=internal, holds_system=False,
        read_only=False, mounts=(),
    )  # fmt: skip


def disks() -> Sequence[Drive]:
    return (disk(256 * 10**9, internal=True), disk(64 * 10**9, internal=True), disk(10**12, internal=False))


@dataclass
class Bench:
    """A made-up Windows."""

    kind: int = UEFI
    number: int = AMD64
    more: dict[tuple[str, str], str | int] = field(default_factory=dict)
    variables: dict[tuple[str, str], bytes] | None = field(default_factory=dict)
    """None: not an administrator."""
    features: frozenset[int] = frozenset((SSE4_2, AVX))
    module: int | None = 2

    def firmware_type(self) -> int:
        return self.kind

    def variable(self, name: str, guid: str) -> bytes | None:
        if self.variables is None:
            raise PermissionError(1314, name)
        return self.variables.get((name, guid))

    def registry(self, path: str, name: str) -> str | int | None:
        return {**NAMES, **self.more}.get((path, name))

    def architecture(self) -> int:
        return self.number

    def has_feature(self, number: int) -> bool:
        return number in self.features

    def memory(self) -> int:
        return 8 << 30

    def security_module(self) -> int | None:
        return self.module


SETUP = ("SetupMode", GLOBAL)
ON = {STATE: 1}
OFF = {STATE: 0}
BENCHES: dict[str, tuple[Bench, dict[str, object], bool]] = {
    "Secure Boot on": (
        Bench(more=ON, variables={SETUP: b"\0", ("db", SECURITY): b"lists"}),
        {"secure_boot": "on", "uefi": "yes", "bios": None, "uefi_width": 64, "started_by": "uefi", "popcnt": "yes",
         "security_module": "2.0", "model": "Skiff 14", "processor": "Ferry 9", "architecture": "x64"},
        False,
    ),
    "on, without rights": (Bench(more=ON, variables=None), {"secure_boot": "on"}, True),
    "off": (Bench(more=OFF, variables={SETUP: b"\0"}), {"secure_boot": "off"}, False),
    "setup mode": (Bench(more=OFF, variables={SETUP: b"\1"}), {"secure_boot": "setup mode"}, False),
    "off or setup mode": (Bench(more=OFF, variables=None), {"secure_boot": "off or setup mode"}, True),
    "firmware without it": (Bench(), {"secure_boot": "none"}, False),
    "nobody says": (Bench(variables=None), {"secure_boot": None}, True),
    "BIOS": (
        Bench(kind=BIOS, module=0),
        {"started_by": "bios", "bios": "yes", "uefi": None, "uefi_width": None, "secure_boot": None,
         "security_module": "none"},
        False,
    ),
    "32-bit UEFI": (Bench(number=INTEL), {"uefi_width": 32, "architecture": None}, False),
    "ARM64": (Bench(number=ARM64), {"architecture": "arm64", "sse4_2": None, "popcnt": None}, False),
    "old system, new processor": (
        Bench(more={BUILD: "7601"}, features=frozenset((AVX,)), kind=0, module=None),
        {"started_by": None, "sse4_2": "yes", "security_module": None, "bios": None},
        False,
    ),
    "old system that does not know": (Bench(more={BUILD: "7601"}, features=frozenset()), {"sse4_2": None}, False),
    "old processor": (
        Bench(features=frozenset(), module=1), {"sse4_2": "no", "popcnt": None, "security_module": "1.2"}, False
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", BENCHES)
def test_windows_answers(name: str) -> None:
    bench, expected, is_told = BENCHES[name]
    machine = WindowsMachine(bench, disks)
    facts = machine.facts()
    assert {key: getattr(facts, key) for key in expected} == expected
    assert (facts.memory, facts.storage) == (8 << 30, 256 * 10**9)
    assert machine.database("db") == (b"lists" if name == "Secure Boot on" else b"")
    assert ["administrator's terminal" in words for words in machine.unknown()] == [True] * is_told


def refused() -> Sequence[Drive]:
    raise NoRights("no", advice="")


MACS: dict[str, tuple[dict[str, str], bytes | None, MachineFacts]] = {
    "Intel": (
        {"hw.model": "TidewellBook14,1", "hw.cpu64bit_capable": "1", "hw.memsize": str(8 << 30),
         "machdep.cpu.brand_string": "Ferry 9", "machdep.cpu.features": "FPU SSE4.1 SSE4.2 POPCNT"},
        b"EFI64\0",
        MachineFacts(model="TidewellBook14,1", board="Mac-TidewellBook14,1", architecture="x64", started_by="uefi",
                     uefi="yes", uefi_width=64, security_module="none", memory=8 << 30, processor="Ferry 9",
                     popcnt="yes", sse4_2="yes"),
    ),
    "Intel of 2007": (
        {"hw.model": "TidewellBook2,1", "hw.cpu64bit_capable": "1", "machdep.cpu.features": "FPU SSSE3"},
        b"EFI32\0",
        MachineFacts(model="TidewellBook2,1", board="Mac-TidewellBook2,1", architecture="x64", started_by="uefi",
                     uefi="yes", uefi_width=32, security_module="none", popcnt="no", sse4_2="no"),
    ),
    "silicon": (
        {"hw.model": "TidewellMini9,1", "hw.optional.arm64": "1", "hw.memsize": "many"},
        None,
        MachineFacts(model="TidewellMini9,1", architecture="arm64", security_module="none"),
    ),
    "answers nonsense": ({}, b"", MachineFacts(started_by="uefi", uefi="yes", security_module="none")),
}  # fmt: skip


@pytest.mark.parametrize("name", MACS)
def test_a_mac_answers(name: str) -> None:
    said, width, expected = MACS[name]

    class Mac:
        def run(self, *command: str) -> bytes:
            if command[0] == "ioreg":
                if not width:
                    return b"<plist" if width is not None else b""
                if "IOPlatformExpertDevice" in command:
                    return plistlib.dumps([{"board-id": f"Mac-{said['hw.model']}".encode() + b"\0"}, 7])
                return plistlib.dumps([{"IORegistryEntryName": "efi", "firmware-abi": width}])
            if command[2] not in said:
                raise OSError(0, f"unknown oid '{command[2]}'")
            return f"{said[command[2]]}\n".encode()

    machine = MacMachine(Mac(), refused)  # type: ignore[arg-type]
    assert machine.facts() == expected
    assert machine.database("db") == b""
    assert len(machine.unknown()) == 1
