"""What is asked of Windows itself: handles, control calls, and the list of volumes."""

from __future__ import annotations

import sys
from typing import Protocol


class WindowsSystem(Protocol):
    """The seam: the tests give recorded answers here. Every call raises OSError with `winerror` set."""

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

    def windows_folder(self) -> str:
        """Return the folder of the running system."""


if sys.platform == "win32":
    import ctypes
    from ctypes import wintypes

    _KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
    _INVALID = ctypes.c_void_p(-1).value
    _READ, _WRITE, _SHARED, _EXISTING = 0x8000_0000, 0x4000_0000, 0x3, 3
    _NO_BUFFERING, _WRITE_THROUGH = 0x2000_0000, 0x8000_0000
    _MORE_DATA, _NO_MORE_FILES = 234, 18

    _KERNEL.CreateFileW.restype = wintypes.HANDLE
    _KERNEL.CreateFileW.argtypes = (
        wintypes.LPCWSTR,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.LPVOID,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.HANDLE,
    )
    _KERNEL.FindFirstVolumeW.restype = wintypes.HANDLE

    class _Overlapped(ctypes.Structure):
        _fields_ = (
            ("internal", ctypes.c_size_t),
            ("internal_high", ctypes.c_size_t),
            ("offset", wintypes.DWORD),
            ("offset_high", wintypes.DWORD),
            ("event", wintypes.HANDLE),
        )

    class RealWindows:
        """The Windows this runs on."""

        def open(self, path: str, *, read: bool, write: bool) -> int:
            access = (_READ if read else 0) | (_WRITE if write else 0)
            flags = (_NO_BUFFERING | _WRITE_THROUGH) if access else 0
            handle = _KERNEL.CreateFileW(path, access, _SHARED, None, _EXISTING, flags, None)
            if handle in (None, _INVALID):
                raise ctypes.WinError(ctypes.get_last_error())
            return int(handle)

        def close(self, handle: int) -> None:
            _KERNEL.CloseHandle(wintypes.HANDLE(handle))

        def control(self, handle: int, code: int, data: bytes, size: int) -> bytes:
            answer, count = ctypes.create_string_buffer(max(size, 1)), wintypes.DWORD()
            worked = _KERNEL.DeviceIoControl(
                wintypes.HANDLE(handle), code, data or None, len(data), answer, size, ctypes.byref(count), None
            )
            if not worked and ctypes.get_last_error() != _MORE_DATA:
                raise ctypes.WinError(ctypes.get_last_error())
            return answer.raw[: count.value]

        def read(self, handle: int, view: memoryview, offset: int) -> int:
            return self._move(
                _KERNEL.ReadFile, handle, (ctypes.c_char * len(view)).from_buffer(view), len(view), offset
            )

        def write(self, handle: int, data: memoryview, offset: int) -> int:
            return self._move(
                _KERNEL.WriteFile, handle, (ctypes.c_char * len(data)).from_buffer(data), len(data), offset
            )

        def _move(
            self,
            call: ctypes._NamedFuncPointer,
            handle: int,
            buffer: ctypes.Array[ctypes.c_char],
            size: int,
            offset: int,
        ) -> int:
            place = _Overlapped(offset=offset & 0xFFFF_FFFF, offset_high=offset >> 32)
            count = wintypes.DWORD()
            if not call(wintypes.HANDLE(handle), buffer, size, ctypes.byref(count), ctypes.byref(place)):
                raise ctypes.WinError(ctypes.get_last_error())
            return count.value

        def flush(self, handle: int) -> None:
            if not _KERNEL.FlushFileBuffers(wintypes.HANDLE(handle)):
                raise ctypes.WinError(ctypes.get_last_error())

        def volumes(self) -> list[str]:
            name = ctypes.create_unicode_buffer(64)
            search = _KERNEL.FindFirstVolumeW(name, len(name))
            if search in (None, _INVALID):
                raise ctypes.WinError(ctypes.get_last_error())
            found = []
            try:
                while True:
                    found.append(name.value.rstrip("\\"))
                    if not _KERNEL.FindNextVolumeW(wintypes.HANDLE(search), name, len(name)):
                        break
            finally:
                _KERNEL.FindVolumeClose(wintypes.HANDLE(search))
            return found

        def mount_points(self, volume: str) -> list[str]:
            names, size = ctypes.create_unicode_buffer(4096), wintypes.DWORD()
            if not _KERNEL.GetVolumePathNamesForVolumeNameW(volume + "\\", names, len(names), ctypes.byref(size)):
                return []
            return [name for name in names[: size.value].split("\0") if name]

        def volume_texts(self, volume: str) -> tuple[str, str]:
            label, kind = ctypes.create_unicode_buffer(64), ctypes.create_unicode_buffer(64)
            if not _KERNEL.GetVolumeInformationW(volume + "\\", label, len(label), None, None, None, kind, len(kind)):
                return "", ""
            return label.value, kind.value

        def windows_folder(self) -> str:
            folder = ctypes.create_unicode_buffer(260)
            _KERNEL.GetWindowsDirectoryW(folder, len(folder))
            return folder.value
