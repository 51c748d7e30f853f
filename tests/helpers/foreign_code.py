"""Boot code of somebody else's, made by the assembler and put onto drives of the tests."""

from __future__ import annotations

import subprocess
from dataclasses import dataclass
from pathlib import Path

from lucky_keystone.volumes.kinds import open_volume

from .drives import MemoryDrive
from .hand_made import NTFS_COPY, START, both, nothing, put, several
from .judges import need

ENTRY = {"ready": 0x5A, "ntfs ready": 0x54}
LOADS = """
        cli
        xor ax, ax
        mov ds, ax
        mov ss, ax
        mov sp, 0x7C00
        sti
        mov word [packet + 2], 1
next:   mov ah, 0x42
        mov si, packet
        int 0x13
        jc $
        add word [packet + 6], 0x20
        inc dword [packet + 8]
        dec word [left]
        jnz next
        jmp 0x2000:0
left:   dw {count}
packet: dw 16, 1, 0, 0x2000
        dq {first}
"""
SAYS = """
        xor ax, ax
        mov ds, ax
        cld
        mov si, text
next:   lodsb
        test al, al
        jz done
        mov ah, 0x0E
        int 0x10
        jmp next
done:   {then}
text:   db "{text}", 0
"""
REBOOTS = "xor ax, ax\n int 0x16\n int 0x19"
MENU = """
        mov ah, 0
        int 0x16
        mov ah, 0x42
        mov si, packet
        int 0x13
        jmp 0:0x8000
packet: dw 16, 1, 0x8000, 0
        dq 100
"""
BY_CYLINDER = """
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov bx, 0x8000
        mov ax, 100
        xor dx, dx
        div word [0x7C18]
        inc dx
        mov cl, dl
        xor dx, dx
        div word [0x7C1A]
        mov ch, al
        mov dh, dl
        mov dl, 0x80
        mov ax, 0x0201
        int 0x13
        cmp word [0x8000], 0x9090
        jne bad
        jmp 0:0x8000
bad:    int 0x18
"""
HANDS_ON = """
        cli
        xor ax, ax
        mov ds, ax
        mov es, ax
        mov ss, ax
        mov sp, 0x7000
        sti
        cld
        mov si, 0x7C00
        mov di, 0x6000
        mov cx, 256
        rep movsw
        jmp 0:0x6000 + there - 0x7C00
there:  mov eax, [0x6000 + 454]
        mov [0x6000 + packet - 0x7C00 + 8], eax
        mov ah, 0x42
        mov si, 0x6000 + packet - 0x7C00
        int 0x13
        jmp 0:0x7C00
packet: dw 16, 1, 0x7C00, 0
        dq 0
"""


def assembled(text: str, at: int, size: int, folder: Path) -> bytes:
    source, code = folder / "code.asm", folder / "code.bin"
    source.write_text(f"bits 16\norg 0x7C00 + {at}\n{text}\n")
    subprocess.run([need("nasm"), "-f", "bin", "-o", code, source], check=True)
    assert code.stat().st_size <= size
    return code.read_bytes().ljust(size, b"\0")


@dataclass(frozen=True)
class Code:
    """Code of somebody else's, and what is to be said and done about it."""

    text: str
    verdict: str
    found: tuple[str, ...] = ()
    mended: bool = False
    behind: bytes = b""
    """What lies in sector 100, in front of the first partition."""
    geometry: tuple[int, int] = (63, 255)
    """Sectors a track, and heads, by the boot sector."""


ON_TO_2000 = b"\x90\x90\xea\x00\x00\x00\x20"
VOLUME = {
    "loads BOOTMGR by its cluster": Code(LOADS, "starts"),
    "reads BOOTMGR, and gives up": Code(
        LOADS.replace("jmp 0x2000:0", "int 0x18"), "not known", ("start.code-not-known",)
    ),
    "says that BOOTMGR is missing": Code(
        SAYS.format(then=REBOOTS, text="BOOTMGR is missing"), "will not start", ("start.foreign-code",), mended=True
    ),
    "halts": Code("cli\n hlt", "will not start", ("start.foreign-code",), mended=True),
    "a menu": Code(
        SAYS.format(then=MENU, text="1: ferry 2: pier"), "not known", ("start.other-code",), behind=b"\xcd\x19"
    ),
    "needs more than a small BIOS": Code(
        "mov ax, 0xE820\n int 0x15\n int 0x18", "not known", ("start.code-not-known",)
    ),
    "waits for a clock": Code("mov ah, 0\nagain: int 0x1A\n jmp again", "not known", ("start.code-not-known",)),
    "shows something by itself, and stands still": Code(
        "push 0xB800\n pop es\n mov word [es:0], 0x0741\n jmp $", "will not start", ("start.foreign-code",), mended=True
    ),
    "counts by the volume's geometry": Code(
        BY_CYLINDER, "not known", ("volume.geometry", "start.other-code"), behind=ON_TO_2000, geometry=(32, 64)
    ),
}
RECORD = {
    "starts the active partition from elsewhere": Code(HANDS_ON, "starts"),
    "says that there is nothing": Code(
        SAYS.format(then="jmp $", text="No system"), "will not start", ("start.foreign-mbr-code",), mended=True
    ),
    "a menu": Code(
        SAYS.format(then=MENU, text="1: ferry 2: pier"), "not known", ("start.other-code",), behind=b"\xcd\x19"
    ),
}


def drive_with(
    name: str, drives: dict[str, bytes], files: Path, code: Code, place: int | None, folder: Path
) -> MemoryDrive:
    drive = MemoryDrive(len(drives[name]))
    drive.data[:] = drives[name]
    _, volume = open_volume(drive, START, drive.size - START)
    loader = volume.find("bootmgr")
    assert loader is not None
    first = volume.cluster_offset(loader.runs[0].first) // 512
    at = ENTRY[name] if place is None else place
    data = assembled(
        code.text.replace("{count}", str(-(-loader.size // 512))).replace("{first}", str(first)), at, 420, folder
    )
    change = (
        put(at, data)
        if place is not None
        else both(at, data)
        if name == "ready"
        else several(put(START + at, data), put(NTFS_COPY + at, data))
    )
    behind = put(100 * 512, code.behind.ljust(512, b"\0")) if code.behind else nothing
    sector = code.geometry[0].to_bytes(2, "little") + code.geometry[1].to_bytes(2, "little")
    copy = START + 6 * 512 if name == "ready" else NTFS_COPY
    several(change, behind, put(START + 24, sector), put(copy + 24, sector))(drive, files)
    return drive
