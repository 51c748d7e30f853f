"""Files of Windows: read and written at an offset, sparse, and placed on their volume.

Seeking and then reading would be a race between threads that share a descriptor; one call with an offset avoids it
(ReadFile and WriteFile, lpOverlapped).
"""

from __future__ import annotations

import sys
from pathlib import Path

if sys.platform == "win32":
    import ctypes
    import msvcrt
    from ctypes import wintypes

    from . import errors

    KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
    INVALID = ctypes.c_void_p(-1).value
    GENERIC_READ, GENERIC_WRITE = 0x8000_0000, 0x4000_0000
    SHARE_READ, SHARE_WRITE, SHARE_DELETE = 1, 2, 4
    OPEN_EXISTING = 3
    BACKUP_SEMANTICS = 0x0200_0000
    _FSCTL_SET_SPARSE = 0x0009_00C4
    _MOST_PATH = 32 << 10
    _MOST_AT_ONCE = 1 << 30

    KERNEL.CreateFileW.restype = wintypes.HANDLE
    KERNEL.CreateFileW.argtypes = (
        wintypes.LPCWSTR,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.LPVOID,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.HANDLE,
    )

    class Overlapped(ctypes.Structure):
        """OVERLAPPED: for a handle that waits for its result, no more than the offset."""

        _fields_ = (
            ("internal", ctypes.c_size_t),
            ("internal_high", ctypes.c_size_t),
            ("offset", wintypes.DWORD),
            ("offset_high", wintypes.DWORD),
            ("event", wintypes.HANDLE),
        )

    def failed(number: int | None = None, name: str | Path | None = None) -> OSError:
        """Return the last error, or the one of this number, as an OSError that has `winerror`."""
        known = ctypes.get_last_error() if number is None else number
        error = ctypes.WinError(known)
        if name is not None:
            error.filename = str(name)
        return error

    def read_at(handle: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from byte `offset`; return how many bytes came (0 at the end)."""
        size = min(len(view), _MOST_AT_ONCE)
        if not size:
            return 0
        buffer = ctypes.c_char.from_buffer(view)
        try:
            return _move(KERNEL.ReadFile, handle, ctypes.byref(buffer), size, offset)
        except OSError as error:
            if getattr(error, "winerror", None) == errors.HANDLE_EOF:
                return 0
            raise

    def write_at(handle: int, data: memoryview, offset: int) -> int:
        """Write the front of `data` at byte `offset`; return how many bytes were taken."""
        size = min(len(data), _MOST_AT_ONCE)
        if not size:
            return 0
        if data.readonly:  # ctypes gives no address of what must not be written
            copy = ctypes.create_string_buffer(bytes(data[:size]), size)
            return _move(KERNEL.WriteFile, handle, ctypes.byref(copy), size, offset)
        buffer = ctypes.c_char.from_buffer(data)
        return _move(KERNEL.WriteFile, handle, ctypes.byref(buffer), size, offset)

    def _move(call: ctypes._NamedFuncPointer, handle: int, buffer: object, size: int, offset: int) -> int:
        place = Overlapped(offset=offset & 0xFFFF_FFFF, offset_high=offset >> 32)
        count = wintypes.DWORD()
        if not call(wintypes.HANDLE(handle), buffer, wintypes.DWORD(size), ctypes.byref(count), ctypes.byref(place)):
            raise failed()
        return count.value

    def handle_of(descriptor: int) -> int:
        """Return what Windows calls an open file."""
        return int(msvcrt.get_osfhandle(descriptor))

    def make_sparse(descriptor: int) -> bool:
        """Let a file hold no bytes where nothing was written (FSCTL_SET_SPARSE); False where it cannot."""
        count = wintypes.DWORD()
        handle = wintypes.HANDLE(handle_of(descriptor))
        return bool(KERNEL.DeviceIoControl(handle, _FSCTL_SET_SPARSE, None, 0, None, 0, ctypes.byref(count), None))

    def stored(descriptor: int) -> int:
        """Return how many bytes a file takes, without holes (FILE_STANDARD_INFO, AllocationSize); all if compressed."""
        import os
        import stat

        facts = os.fstat(descriptor)
        standard_info = 1
        answer = (ctypes.c_longlong * 3)()  # AllocationSize, EndOfFile, and what is of no interest
        handle = wintypes.HANDLE(handle_of(descriptor))
        is_told = KERNEL.GetFileInformationByHandleEx(handle, standard_info, answer, ctypes.sizeof(answer))
        if not is_told or facts.st_file_attributes & stat.FILE_ATTRIBUTE_COMPRESSED:
            return facts.st_size
        return min(answer[0], facts.st_size)

    def set_end(descriptor: int, size: int) -> None:
        """Let a file end at byte `size`: unlike the C runtime's call this writes no zeros (SetEndOfFile).

        Nobody else may read or write it meanwhile: the file's position is moved.
        """
        handle = wintypes.HANDLE(handle_of(descriptor))
        KERNEL.SetFilePointerEx.argtypes = (wintypes.HANDLE, wintypes.LARGE_INTEGER, wintypes.LPVOID, wintypes.DWORD)
        if not KERNEL.SetFilePointerEx(handle, size, None, 0) or not KERNEL.SetEndOfFile(handle):
            raise failed()

    def open_exclusive(path: Path, *, make: bool = False) -> int:
        """Open a file for reading and writing, while nobody else writes it; return its descriptor.

        Raises OSError, with SHARING_VIOLATION where somebody does.
        """
        create_new = 1
        handle = KERNEL.CreateFileW(
            str(path), GENERIC_READ | GENERIC_WRITE, SHARE_READ, None, create_new if make else OPEN_EXISTING, 0, None
        )
        if handle in (None, INVALID):
            raise failed(name=path)
        return _as_descriptor(int(handle))

    def _as_descriptor(handle: int) -> int:
        import os

        try:
            return msvcrt.open_osfhandle(handle, os.O_RDWR | os.O_BINARY | os.O_NOINHERIT)
        except OSError:
            KERNEL.CloseHandle(wintypes.HANDLE(handle))
            raise

    def final_path(path: Path | str) -> str:
        r"""Return where a file or folder really lies, by its volume: \\?\Volume{…}\…, or \\?\UNC\… on a server.

        The system says it of the opened file, so that letters, mount folders, junctions and short names do not matter.
        Raises OSError.
        """
        shared = SHARE_READ | SHARE_WRITE | SHARE_DELETE
        handle = KERNEL.CreateFileW(str(path), 0, shared, None, OPEN_EXISTING, BACKUP_SEMANTICS, None)
        if handle in (None, INVALID):
            raise failed(name=path)
        try:
            return _final_path(int(handle))
        finally:
            KERNEL.CloseHandle(wintypes.HANDLE(handle))

    def _final_path(handle: int) -> str:
        by_guid, by_letter = 1, 0
        buffer = ctypes.create_unicode_buffer(_MOST_PATH)
        for form in (by_guid, by_letter):
            if KERNEL.GetFinalPathNameByHandleW(wintypes.HANDLE(handle), buffer, len(buffer), form):
                return buffer.value
        raise failed()

    def is_console(descriptor: int) -> bool:
        """True for a real console: null input calls itself a character device too, and nobody answers there."""
        mode = wintypes.DWORD()
        try:
            handle = handle_of(descriptor)
        except OSError:
            return False
        return bool(KERNEL.GetConsoleMode(wintypes.HANDLE(handle), ctypes.byref(mode)))
