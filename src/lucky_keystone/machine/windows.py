"""The facts of a computer that runs Windows, by its documented calls and by values that everybody may read.

Firmware variables (db, dbx, setup mode) are shown to administrators alone; others are told so.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from ..drives.drive import Drive
from .facts import Architecture, Flag, MachineFacts, SecureBoot, SecurityModule
from .reader import largest_internal

GLOBAL = "{8BE4DF61-93CA-11D2-AA0D-00E098032B8C}"
"""EFI_GLOBAL_VARIABLE (UEFI 2.10, 3.3)."""
SECURITY = "{D719B2CB-3D3A-4596-A3BC-DAD00E67656F}"
"""EFI_IMAGE_SECURITY_DATABASE (UEFI 2.10, 32.6.1): db and dbx."""
BIOS, UEFI = 1, 2
"""FirmwareTypeBios and FirmwareTypeUefi (winnt.h, FIRMWARE_TYPE)."""
AMD64, INTEL, ARM64 = 9, 0, 12
"""PROCESSOR_ARCHITECTURE_AMD64 and so on (winnt.h)."""
SSE4_2, AVX = 38, 39
"""PF_SSE4_2_INSTRUCTIONS_AVAILABLE and PF_AVX_INSTRUCTIONS_AVAILABLE (winnt.h)."""
_KNOWS_SSE4_2 = 19041
"""Build of Windows from which on it answers for SSE4.2; earlier ones say no to whatever they do not know."""
TPM_1_2, TPM_2_0, NO_TPM = 1, 2, 0
_STATE = r"SYSTEM\CurrentControlSet\Control\SecureBoot\State"
_HARDWARE = r"HARDWARE\DESCRIPTION\System"
_ARCHITECTURES: dict[int, Architecture] = {AMD64: "x64", ARM64: "arm64"}
_MODULES: dict[int, SecurityModule] = {TPM_1_2: "1.2", TPM_2_0: "2.0", NO_TPM: "none"}
_RIGHTS = "db, dbx and setup mode are shown to administrators only: run it in an administrator's terminal."


class WindowsFirmware(Protocol):
    """The seam: the tests give recorded answers here."""

    def firmware_type(self) -> int:
        """GetFirmwareType; 0 where the system does not say."""

    def variable(self, name: str, guid: str) -> bytes | None:
        """GetFirmwareEnvironmentVariable; None where there is none. Raises PermissionError without permission."""

    def registry(self, path: str, name: str) -> str | int | None:
        """Return a value below HKEY_LOCAL_MACHINE; None where there is none."""

    def architecture(self) -> int:
        """IsWow64Process2, or GetNativeSystemInfo: of the machine, also for a program of another kind on it."""

    def has_feature(self, number: int) -> bool:
        """IsProcessorFeaturePresent."""

    def memory(self) -> int:
        """Return the bytes that are built in, or what the system has of them where firmware does not say."""

    def security_module(self) -> int | None:
        """Tbsi_GetDeviceInfo: the version; 0 where there is none, None where the system does not say."""


class WindowsMachine:
    """Asks Windows."""

    def __init__(self, system: WindowsFirmware, drives: Callable[[], Sequence[Drive]]) -> None:
        self._system, self._drives = system, drives
        self._refused = False

    def facts(self) -> MachineFacts:
        system = self._system
        kind, number = system.firmware_type(), system.architecture()
        by_uefi = kind == UEFI
        sse4_2 = self._sse4_2(number)
        module = system.security_module()
        return MachineFacts(
            model=str(system.registry(rf"{_HARDWARE}\BIOS", "SystemProductName") or "").strip(),
            # A 32-bit system runs on processors of 64 bits as well, and does not say which it is.
            architecture=_ARCHITECTURES.get(number),
            started_by="uefi" if by_uefi else "bios" if kind == BIOS else None,
            bios="yes" if kind == BIOS else None,
            uefi="yes" if by_uefi else None,
            # Windows and its firmware have the same width.
            uefi_width=(32 if number == INTEL else 64) if by_uefi else None,
            secure_boot=self._secure_boot() if by_uefi else None,
            security_module=None if module is None else _MODULES.get(module),
            memory=system.memory() or None,
            storage=largest_internal(self._drives),
            processor=str(system.registry(rf"{_HARDWARE}\CentralProcessor\0", "ProcessorNameString") or "").strip(),
            popcnt="yes" if sse4_2 == "yes" else None,  # whatever knows SSE4.2 knows POPCNT, not the other way round
            sse4_2=sse4_2,
        )

    def database(self, name: str) -> bytes:
        return self._variable(name, SECURITY) or b""

    def unknown(self) -> tuple[str, ...]:
        return (_RIGHTS,) if self._refused else ()

    def _secure_boot(self) -> SecureBoot | None:
        """The registry says whether it is on; that it is off and has no keys yet only firmware says."""
        setup = self._variable("SetupMode", GLOBAL)
        on = self._system.registry(_STATE, "UEFISecureBootEnabled")
        if on is None:
            return None if self._refused else "none"
        if on == 1:
            return "on"
        if setup is None:
            return "off or setup mode" if self._refused else "off"
        return "setup mode" if any(setup) else "off"

    def _variable(self, name: str, guid: str) -> bytes | None:
        try:
            return self._system.variable(name, guid)
        except PermissionError:
            self._refused = True
            return None

    def _sse4_2(self, architecture: int) -> Flag | None:
        if architecture == ARM64:
            return None
        if self._system.has_feature(SSE4_2) or self._system.has_feature(AVX):
            return "yes"  # whatever knows AVX knows SSE4.2
        build = str(self._system.registry(r"SOFTWARE\Microsoft\Windows NT\CurrentVersion", "CurrentBuildNumber") or "")
        return "no" if build.isdecimal() and int(build) >= _KNOWS_SSE4_2 else None
