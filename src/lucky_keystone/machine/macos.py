"""The facts of a Mac, by what macOS shows everybody: sysctl(8) and the registry of its devices (ioreg(8))."""

from __future__ import annotations

import plistlib
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Literal
from xml.parsers.expat import ExpatError

from ..drives.drive import Drive
from ..drives.macos.system import MacSystem
from .facts import Architecture, MachineFacts
from .reader import largest_internal

_DEVICES = ("ioreg", "-a", "-p", "IODeviceTree", "-r", "-n", "efi", "-d", "1")
_BOARD = ("ioreg", "-a", "-r", "-c", "IOPlatformExpertDevice", "-d", "1")
_CAPABLE: dict[str, Architecture] = {"1": "x64", "0": "x86"}
_WIDTHS: dict[str, Literal[32, 64]] = {"EFI32": 32, "EFI64": 64}
"""firmware-abi, by which Macs of 2006 to 2008 tell that their firmware has fewer bits than their processor."""


class MacMachine:
    """Asks macOS."""

    def __init__(self, system: MacSystem, drives: Callable[[], Sequence[Drive]]) -> None:
        self._system, self._drives = system, drives

    def facts(self) -> MachineFacts:
        is_silicon = self._said("hw.optional.arm64") == "1"
        features = self._said("machdep.cpu.features").upper().split()
        memory = self._said("hw.memsize")
        return MachineFacts(
            model=self._said("hw.model"),
            board=next((text for text in self._registered(_BOARD, "board-id") if text), ""),
            architecture="arm64" if is_silicon else _CAPABLE.get(self._said("hw.cpu64bit_capable")),
            started_by=None if is_silicon else "uefi",
            bios=None,
            uefi=None if is_silicon else "yes",
            uefi_width=None if is_silicon else self._width(),
            secure_boot=None,  # a Mac's own start-up security does not follow UEFI
            security_module="none",
            memory=int(memory) if memory.isdecimal() else None,
            storage=largest_internal(self._drives),
            processor=self._said("machdep.cpu.brand_string"),
            popcnt=None if not features else "yes" if "POPCNT" in features else "no",
            sse4_2=None if not features else "yes" if "SSE4.2" in features else "no",
        )

    def database(self, name: str) -> bytes:
        return b""

    def unknown(self) -> tuple[str, ...]:
        return (
            "What a Mac's own start-up security allows, its recovery system shows: hold Command and R at the start.",
        )

    def _said(self, name: str) -> str:
        try:
            return self._system.run("sysctl", "-n", name).decode("utf-8", "replace").strip()
        except OSError:
            return ""

    def _width(self) -> Literal[32, 64] | None:
        return next(
            (width for text in self._registered(_DEVICES, "firmware-abi") if (width := _WIDTHS.get(text))), None
        )

    def _registered(self, command: Sequence[str], key: str) -> Iterator[str]:
        """Yield the texts that the registry of devices has under a key."""
        try:
            answer: Any = plistlib.loads(self._system.run(*command))
        except (OSError, ValueError, ExpatError, plistlib.InvalidFileException):
            return
        for each in answer if isinstance(answer, list) else ():
            told = each.get(key) if isinstance(each, dict) else None
            if isinstance(told, bytes):
                yield told.rstrip(b"\0").decode("ascii", "replace")
