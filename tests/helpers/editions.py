"""A tree with one of each thing that an edition in an install image may hold."""

from __future__ import annotations

import random
import struct
from collections.abc import Mapping

from lucky_keystone.common.descriptors import ADMINISTRATORS, EVERYONE, SYSTEM, allowed, descriptor

from .install_images import Item

SYMLINK, JUNCTION, OTHERS = 0xA000_000C, 0xA000_0003, 0x0000_7EA5
TARGET = "\\??\\C:\\Piers".encode("utf-16-le")
LINK_DATA = struct.pack("<HHHHI", 0, len(TARGET), 0, len(TARGET), 0) + TARGET
JUNCTION_DATA = struct.pack("<HHHH", 0, len(TARGET), len(TARGET) + 2, 0) + TARGET + bytes(4)
LONG_DATA = bytes(range(256)) * 40
OWN = descriptor(SYSTEM, SYSTEM, [allowed(3, 0x001F01FF, SYSTEM)])
OTHER = descriptor(ADMINISTRATORS, SYSTEM, [allowed(0, 0x001200A9, EVERYONE)] * 200)


def everything(many: int = 300) -> dict[str, Item]:
    """A tree with one of each thing that an edition may hold."""
    data = random.Random(4).randbytes(70_000)
    deep = {f"{'d' * 60} {n}": Item(None) for n in range(8)}
    last: Mapping[str, Item] = {"at the end.txt": Item(b"deep")}
    for name in deep:
        last = {name: Item(None, last)}
    return {
        "Windows": Item(
            None,
            {
                "Long name of a file.txt": Item(b"a" * 5000, short="LONGNA~1.TXT", attributes=0x27),
                "plain.txt": Item(b"p", attributes=0x2120, security=OTHER),
                "copy.bin": Item(data),
                "copy again.bin": Item(data, security=OWN),
                "streams.dat": Item(b"main", streams={"Zone.Identifier": b"[ZoneTransfer]", "large": data[:9000]}),
                "empty": Item(b""),
                "linked to.txt": Item(TARGET[:1] + LINK_DATA[1:], attributes=0x420, link=SYMLINK),
                "junction": Item(JUNCTION_DATA, attributes=0x410, link=JUNCTION),
                "other maker": Item(bytes(16) + b"guarded", attributes=0x420, link=OTHERS),
                "long point": Item(LONG_DATA, attributes=0x420, link=SYMLINK),
                "Readme.txt": Item(b"1"),
                "README.TXT": Item(b"22"),
                "compressed": Item(b"not stored so" * 100, attributes=0x820),
                "ends with a dot.": Item(b"dot"),
            },
            attributes=0x2002,
            security=OWN,
            streams={},
        ),
        "WinSxS": Item(
            None,
            {
                f"{'n' * 90} {n}": Item(b"linked" * 300, link=77, short="NNNNNN~1" if n == 3 else "", security=OWN)
                for n in range(24)
            },
        ),
        "by name": Item(None, {"FIRST.TXT": Item(b"linked" * 300, link=77, security=OWN), "twin": Item(b"", link=78)}),
        "by name too": Item(None, {"twin": Item(b"", link=78), "alone": Item(b"", link=79)}),
        "many": Item(None, {f"file {n:04}": Item(b"%d" % n) for n in range(many)}),
        "streams": Item(
            None, {"f": Item(b"x", streams={f"stream {n:02} {'s' * 60}": b"%d" % n * 90 for n in range(20)})}
        ),
        **last,
    }
