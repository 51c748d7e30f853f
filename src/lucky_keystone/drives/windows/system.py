"""What is asked of Windows itself: handles, control calls, the list of volumes, and what the running system needs."""

from __future__ import annotations

import sys
from typing import Protocol


class WindowsSystem(Protocol):
    """The seam: the tests put a model of the kernel's disks here. Every call raises OSError with `winerror` set."""

    def open(self, path: str, *, read: bool, write: bool) -> int:
        """Open a drive or volume past the cache.

        With neither read nor write it can only be asked, which needs no rights.
        """

    def close(self, handle: int) -> None: ...

    def control(self, handle: int, code: int, data: bytes, size: int) -> bytes:
        """Make a control call; return the up to `size` bytes of its answer."""

    def read(self, handle: int, view: memoryview, offset: int) -> int: ...

    def write(self, handle: int, data: memoryview, offset: int) -> int: ...

    def flush(self, handle: int) -> None: ...

    def volumes(self) -> list[str]:
        r"""Return the names of all volumes: \\?\Volume{…}, without a backslash at the end."""

    def mount_points(self, volume: str) -> list[str]:
        """Return letters and folders the volume is reached by."""

    def volume_texts(self, volume: str) -> tuple[str, str]:
        """Return label and file system; empty where there is none."""

    def final_path(self, path: str) -> str:
        r"""Return where a file or folder really lies: \\?\Volume{…}\…, \\?\UNC\server\share\…."""

    def windows_folder(self) -> str:
        """Return the folder of the running system."""

    def system_files(self) -> list[str]:
        """Return the files that the running system uses beside its folder: page files, dumps."""

    def system_partition(self) -> str:
        r"""Return the device of the partition that the computer was started from: \Device\HarddiskVolume1; or ''."""

    def is_this_computer(self, server: str) -> bool:
        """Tell whether a server's name or address is this computer's own."""

    def claim(self, name: str) -> int:
        """Return a handle that nobody else has for this name, until it is closed: SHARING_VIOLATION while one has."""

    def users(self, handle: int) -> list[str]:
        """Return the names of the programs that have something open on a volume, as far as the system tells."""


if sys.platform == "win32":
    import ctypes
    import hashlib
    import os
    import socket
    import winreg
    from contextlib import suppress
    from ctypes import wintypes
    from pathlib import PureWindowsPath

    from ...winapi import errors, files
    from ...winapi.files import GENERIC_READ, GENERIC_WRITE, INVALID, KERNEL, OPEN_EXISTING, SHARE_READ, SHARE_WRITE

    _NO_BUFFERING, _WRITE_THROUGH = 0x2000_0000, 0x8000_0000
    _ALREADY_EXISTS = 183
    _PROCESS_IDS_USING_FILE = 47  # FILE_INFORMATION_CLASS
    _QUERY_LIMITED = 0x1000
    _MANAGER = r"SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management"
    _CRASHES = r"SYSTEM\CurrentControlSet\Control\CrashControl"

    KERNEL.FindFirstVolumeW.restype = wintypes.HANDLE
    KERNEL.CreateMutexW.restype = wintypes.HANDLE
    KERNEL.OpenProcess.restype = wintypes.HANDLE

    class RealWindows:
        """The Windows this runs on."""

        def open(self, path: str, *, read: bool, write: bool) -> int:
            access = (GENERIC_READ if read else 0) | (GENERIC_WRITE if write else 0)
            flags = (_NO_BUFFERING | _WRITE_THROUGH) if access else 0
            handle = KERNEL.CreateFileW(path, access, SHARE_READ | SHARE_WRITE, None, OPEN_EXISTING, flags, None)
            if handle in (None, INVALID):
                raise files.failed()
            return int(handle)

        def close(self, handle: int) -> None:
            KERNEL.CloseHandle(wintypes.HANDLE(handle))

        def control(self, handle: int, code: int, data: bytes, size: int) -> bytes:
            answer, count = ctypes.create_string_buffer(max(size, 1)), wintypes.DWORD()
            worked = KERNEL.DeviceIoControl(
                wintypes.HANDLE(handle),
                wintypes.DWORD(code),
                data or None,
                len(data),
                answer,
                size,
                ctypes.byref(count),
                None,
            )
            if not worked and ctypes.get_last_error() != errors.MORE_DATA:
                raise files.failed()
            return answer.raw[: count.value]

        def read(self, handle: int, view: memoryview, offset: int) -> int:
            return files.read_at(handle, view, offset)

        def write(self, handle: int, data: memoryview, offset: int) -> int:
            return files.write_at(handle, data, offset)

        def flush(self, handle: int) -> None:
            if not KERNEL.FlushFileBuffers(wintypes.HANDLE(handle)):
                raise files.failed()

        def volumes(self) -> list[str]:
            name = ctypes.create_unicode_buffer(64)
            search = KERNEL.FindFirstVolumeW(name, len(name))
            if search in (None, INVALID):
                return []
            found = []
            try:
                while True:
                    found.append(name.value.rstrip("\\"))
                    if not KERNEL.FindNextVolumeW(wintypes.HANDLE(search), name, len(name)):
                        break
            finally:
                KERNEL.FindVolumeClose(wintypes.HANDLE(search))
            return found

        def mount_points(self, volume: str) -> list[str]:
            names, size = ctypes.create_unicode_buffer(4096), wintypes.DWORD()
            if not KERNEL.GetVolumePathNamesForVolumeNameW(volume + "\\", names, len(names), ctypes.byref(size)):
                return []
            return [name for name in ctypes.wstring_at(names, size.value).split("\0") if name]

        def volume_texts(self, volume: str) -> tuple[str, str]:
            label, kind = ctypes.create_unicode_buffer(64), ctypes.create_unicode_buffer(64)
            if not KERNEL.GetVolumeInformationW(volume + "\\", label, len(label), None, None, None, kind, len(kind)):
                return "", ""
            return label.value, kind.value

        def final_path(self, path: str) -> str:
            return files.final_path(path)

        def windows_folder(self) -> str:
            folder = ctypes.create_unicode_buffer(260)
            KERNEL.GetWindowsDirectoryW(folder, len(folder))
            return folder.value

        def system_files(self) -> list[str]:
            pages = _values(_MANAGER, "ExistingPageFiles") or _values(_MANAGER, "PagingFiles")
            named = [text.removeprefix("\\??\\") for text in pages]
            dumps = _values(_CRASHES, "DumpFile") + _values(_CRASHES, "DedicatedDumpFile")
            return [text for text in (*named, *map(os.path.expandvars, dumps)) if text[1:3] == ":\\"]

        def system_partition(self) -> str:
            return next(iter(_values(r"SYSTEM\Setup", "SystemPartition")), "")

        def is_this_computer(self, server: str) -> bool:
            name = server.partition("@")[0].lower().removesuffix(".")
            if name in ("localhost", "127.0.0.1", "::1", os.environ.get("COMPUTERNAME", "").lower()):
                return True
            with suppress(OSError, UnicodeError):
                for family, _, _, _, address in socket.getaddrinfo(name, None):
                    # Only an address of its own can be bound to.
                    with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as tried:
                        tried.bind((address[0], 0))
                        return True
            return False

        def claim(self, name: str) -> int:
            digest = hashlib.sha256(name.encode("utf-8", "surrogatepass")).hexdigest()[:32]
            handle = KERNEL.CreateMutexW(None, False, f"Global\\lucky-keystone-{digest}")
            number = ctypes.get_last_error()
            if handle and number != _ALREADY_EXISTS:
                return int(handle)
            if handle:
                self.close(handle)
            # What another user has may not even be opened.
            raise files.failed(errors.SHARING_VIOLATION)

        def users(self, handle: int) -> list[str]:
            buffer, status = (ctypes.c_size_t * 256)(), (ctypes.c_size_t * 2)()
            query = ctypes.WinDLL("ntdll").NtQueryInformationFile
            if query(wintypes.HANDLE(handle), status, buffer, ctypes.sizeof(buffer), _PROCESS_IDS_USING_FILE):
                return []
            numbers = buffer[1 : 1 + min(buffer[0] & 0xFFFF_FFFF, len(buffer) - 1)]
            return sorted({name for number in numbers if number != os.getpid() and (name := _program(number))})

    def _values(key: str, name: str) -> list[str]:
        """Return the texts of a value of this computer's registry; none where it is not there."""
        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, key) as opened:
                found, _ = winreg.QueryValueEx(opened, name)
        except OSError:
            return []
        texts = found if isinstance(found, list) else [found]
        # "C:\pagefile.sys 0 0" of PagingFiles has sizes behind the name.
        return [text.split(" ")[0] if name == "PagingFiles" else text for text in texts if isinstance(text, str)]

    def _program(number: int) -> str:
        """Return the name of a running program's file; '' where it is not told."""
        process = KERNEL.OpenProcess(_QUERY_LIMITED, False, wintypes.DWORD(number))
        if not process:
            return ""
        try:
            text, size = ctypes.create_unicode_buffer(1024), wintypes.DWORD(1024)
            worked = KERNEL.QueryFullProcessImageNameW(wintypes.HANDLE(process), 0, text, ctypes.byref(size))
            return PureWindowsPath(text.value).name if worked else ""
        finally:
            KERNEL.CloseHandle(wintypes.HANDLE(process))
