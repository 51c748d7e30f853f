"""The calls of Windows behind the facts of a machine. docs/not-proven-here.md has what only a real PC shows."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    import ctypes
    import winreg
    from contextlib import suppress
    from ctypes import wintypes

    _KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
    _ADVAPI = ctypes.WinDLL("advapi32", use_last_error=True)
    _MOST = 1 << 20
    _NOT_FOUND, _NO_FUNCTION, _NO_PRIVILEGE, _DENIED = 203, 1, 1314, 5
    _ADJUST, _QUERY, _ENABLED = 0x20, 0x8, 2
    _ARCHITECTURES = {0x8664: 9, 0xAA64: 12, 0x014C: 0}
    """IMAGE_FILE_MACHINE_AMD64, _ARM64 and _I386 as PROCESSOR_ARCHITECTURE_… (winnt.h)."""
    _UNKNOWN = 0xFFFF
    _PRIVILEGE = "SeSystemEnvironmentPrivilege"
    _TPM_NOT_FOUND = 0x8028_400F
    """TBS_E_TPM_NOT_FOUND (tbs.h)."""

    class _SystemInfo(ctypes.Structure):
        """SYSTEM_INFO (sysinfoapi.h), as far as it is needed; the rest is room."""

        _fields_ = (("architecture", wintypes.WORD), ("rest", ctypes.c_byte * 62))

    class _MemoryStatus(ctypes.Structure):
        """MEMORYSTATUSEX (sysinfoapi.h)."""

        _fields_ = (
            ("length", wintypes.DWORD),
            ("load", wintypes.DWORD),
            ("total", ctypes.c_uint64),
            ("rest", ctypes.c_uint64 * 6),
        )

    class _Privileges(ctypes.Structure):
        """TOKEN_PRIVILEGES with one of them (winnt.h)."""

        _fields_ = (
            ("count", wintypes.DWORD),
            ("low", wintypes.DWORD),
            ("high", wintypes.LONG),
            ("attributes", wintypes.DWORD),
        )

    class _TpmInfo(ctypes.Structure):
        """TPM_DEVICE_INFO (tbs.h)."""

        _fields_ = (
            ("struct_version", wintypes.DWORD),
            ("tpm_version", wintypes.DWORD),
            ("interface", wintypes.DWORD),
            ("revision", wintypes.DWORD),
        )

    class RealWindowsFirmware:
        """The Windows this runs on."""

        def firmware_type(self) -> int:
            kind = ctypes.c_int()
            try:
                known = _KERNEL.GetFirmwareType(ctypes.byref(kind))
            except AttributeError:  # older than Windows 8
                return 0
            return kind.value if known else 0

        def variable(self, name: str, guid: str) -> bytes | None:
            _enable_privilege()
            room = ctypes.create_string_buffer(_MOST)
            size = _KERNEL.GetFirmwareEnvironmentVariableW(name, guid, room, _MOST)
            if size:
                return room.raw[:size]
            error = ctypes.get_last_error()
            if error in (_NO_PRIVILEGE, _DENIED):
                raise PermissionError(error, name)
            return None

        def registry(self, path: str, name: str) -> str | int | None:
            access = winreg.KEY_READ | winreg.KEY_WOW64_64KEY
            with suppress(OSError), winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path, 0, access) as key:
                value, _ = winreg.QueryValueEx(key, name)
                return value if isinstance(value, str | int) else None
            return None

        def architecture(self) -> int:
            # Of an x64 program on ARM64 the older call says what is emulated for it.
            process, native = wintypes.USHORT(), wintypes.USHORT()
            with suppress(AttributeError):
                _KERNEL.GetCurrentProcess.restype = wintypes.HANDLE
                current = wintypes.HANDLE(_KERNEL.GetCurrentProcess())
                if _KERNEL.IsWow64Process2(current, ctypes.byref(process), ctypes.byref(native)):
                    return _ARCHITECTURES.get(native.value, _UNKNOWN)
            info = _SystemInfo()
            _KERNEL.GetNativeSystemInfo(ctypes.byref(info))
            return int(info.architecture)

        def has_feature(self, number: int) -> bool:
            return bool(_KERNEL.IsProcessorFeaturePresent(wintypes.DWORD(number)))

        def memory(self) -> int:
            kilobytes = ctypes.c_uint64()
            if _KERNEL.GetPhysicallyInstalledSystemMemory(ctypes.byref(kilobytes)):
                return int(kilobytes.value) << 10
            status = _MemoryStatus(length=ctypes.sizeof(_MemoryStatus))
            return int(status.total) if _KERNEL.GlobalMemoryStatusEx(ctypes.byref(status)) else 0

        def security_module(self) -> int | None:
            try:
                services = ctypes.WinDLL("tbs")
                info = _TpmInfo()
                code = services.Tbsi_GetDeviceInfo(wintypes.UINT(ctypes.sizeof(info)), ctypes.byref(info))
            except (OSError, AttributeError):
                return None
            if code & 0xFFFF_FFFF == _TPM_NOT_FOUND:
                return 0
            return int(info.tpm_version) if code == 0 else None

    def _enable_privilege() -> None:
        """Switch on the privilege for firmware variables, which administrators have and which is off by default."""
        token = wintypes.HANDLE()
        _KERNEL.GetCurrentProcess.restype = wintypes.HANDLE
        process = wintypes.HANDLE(_KERNEL.GetCurrentProcess())
        if not _ADVAPI.OpenProcessToken(process, wintypes.DWORD(_ADJUST | _QUERY), ctypes.byref(token)):
            return
        wanted = _Privileges(count=1, attributes=_ENABLED)
        if _ADVAPI.LookupPrivilegeValueW(None, _PRIVILEGE, ctypes.byref(wanted, _Privileges.low.offset)):
            _ADVAPI.AdjustTokenPrivileges(token, False, ctypes.byref(wanted), 0, None, None)
        _KERNEL.CloseHandle(token)
