"""Registry hives of the tests' own making, with what systems write and `hive.make` does not.

All kinds of lists, divided values, free cells between others, names beyond Latin-1, room behind the bins.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from regipy.registry import RegistryHive


@dataclass
class Keys:
    """A key: values as (type, data), and keys below it."""

    values: Mapping[str, tuple[int, bytes]] = field(default_factory=dict)
    below: Mapping[str, Keys] = field(default_factory=dict)


def hive_of(root: Keys, chance: random.Random, *, minor: int = 5, dirty: bool = False, behind: int = 0) -> bytes:
    """Return a hive; which lists it has and where its cells lie are by `chance`."""
    bins: list[bytearray] = []
    used = [0]  # of the last bin

    def cell(content: bytes) -> int:
        if bins and chance.random() < 0.3:
            put(struct.pack("<i", 16), 16)  # a free cell in between
        size = len(content) + 4 + 7 & ~7
        return put(struct.pack("<i", -size) + content, size)

    def put(data: bytes, size: int) -> int:
        if not bins or used[0] + size > len(bins[-1]):
            close()
            start = sum(map(len, bins))
            bins.append(bytearray(size + 32 + 4095 & ~4095))
            bins[-1][:32] = struct.pack("<4sII20x", b"hbin", start, len(bins[-1]))
            used[0] = 32
        at = used[0]
        bins[-1][at : at + len(data)] = data
        used[0] = at + size
        return sum(map(len, bins[:-1])) + at

    def close() -> None:
        if bins and used[0] < len(bins[-1]):
            struct.pack_into("<i", bins[-1], used[0], len(bins[-1]) - used[0])

    def named(name: str) -> tuple[bytes, bool]:
        return (name.encode("ascii"), True) if name.isascii() else (name.encode("utf-16-le"), False)

    def value(name: str, kind: int, data: bytes) -> int:
        stored, ascii_ = named(name)
        if len(data) <= 4:
            size, where = len(data) | 1 << 31, int.from_bytes(data, "little")
        elif len(data) > 16344:
            parts = [cell(data[at : at + 16344]) for at in range(0, len(data), 16344)]
            listed = cell(struct.pack(f"<{len(parts)}I", *parts))
            size, where = len(data), cell(struct.pack("<2sHI", b"db", len(parts), listed))
        else:
            size, where = len(data), cell(data)
        return cell(struct.pack("<2sHIIIHH", b"vk", len(stored), size, where, kind, int(ascii_), 0) + stored)

    def listed(below: list[tuple[str, int]]) -> int:
        if len(below) > 3 and chance.random() < 0.5:
            half = len(below) // 2
            return cell(struct.pack("<2sHII", b"ri", 2, listed_flat(below[:half]), listed_flat(below[half:])))
        return listed_flat(below)

    def listed_flat(below: list[tuple[str, int]]) -> int:
        kind = chance.choice((b"lf", b"lh", b"li"))
        out = struct.pack("<2sH", kind, len(below))
        for name, where in below:
            hint = b""
            if kind == b"lh":
                total = 0
                for unit in name.upper():
                    total = total * 37 + ord(unit) & 0xFFFFFFFF
                hint = struct.pack("<I", total)
            elif kind == b"lf":
                hint = name.encode("ascii", "replace")[:4].ljust(4, b"\0")
            out += struct.pack("<I", where) + hint
        return cell(out)

    keys: list[tuple[int, int]] = []

    def key(name: str, node: Keys, parent: int) -> int:
        stored, ascii_ = named(name)
        here = cell(bytes(76) + stored)
        below = [(each, key(each, node.below[each], here)) for each in sorted(node.below, key=str.upper)]
        values = [value(each, *node.values[each]) for each in node.values]
        head = struct.pack(
            "<2sHQIIIIIIIIIIIIIIIHH",
            *(b"nk", (0x20 if ascii_ else 0) | (4 if parent < 0 else 0), 0x1D9_0000_0000_0000, 0, max(parent, 0)),
            *(len(below), 0, listed(below) if below else 0xFFFFFFFF, 0xFFFFFFFF),
            *(len(values), cell(struct.pack(f"<{len(values)}I", *values)) if values else 0xFFFFFFFF, 0, 0xFFFFFFFF),
            *(max((2 * len(n) for n in node.below), default=0), 0, max((2 * len(n) for n in node.values), default=0)),
            *(max((len(data) for _, data in node.values.values()), default=0), 0, len(stored), 0),
        )
        keys.append((here, len(head)))
        place(here, head)
        return here

    def place(where: int, data: bytes) -> None:
        at = where
        for each in bins:
            if at < len(each):
                each[at + 4 : at + 4 + len(data)] = data
                return
            at -= len(each)

    top = key("ROOT", root, -1)
    access = bytes.fromhex("01000480" + "00" * 12) + bytes(4)
    security = cell(struct.pack("<2sHIIII", b"sk", 0, 0, 0, len(keys), len(access)) + access)
    place(security, struct.pack("<2sHII", b"sk", 0, security, security))
    close()
    data = b"".join(map(bytes, bins))
    out = bytearray(data)
    for here, _ in keys:
        struct.pack_into("<I", out, here + 4 + 44, security)
    base = bytearray(4096)
    struct.pack_into("<4sIIQIIIIIII", base, 0, b"regf", 7, 6 if dirty else 7, 1, 1, minor, 0, 1, top, len(out), 1)
    total = 0
    for at in range(0, 508, 4):
        total ^= int.from_bytes(base[at : at + 4], "little")
    struct.pack_into("<I", base, 508, total)
    return bytes(base + out) + b"\xee" * behind


def names_by_regipy(path: str) -> list[str]:
    """Return the path of every key as regipy finds them."""
    hive = RegistryHive(path)
    waiting, found = [("", hive.root)], []
    while waiting:
        prefix, key = waiting.pop()
        for below in key.iter_subkeys():
            found.append(f"{prefix}{below.name}")
            waiting.append((f"{found[-1]}\\", below))
    return sorted(found)


def short(data: bytes) -> bytes:
    """Return data as far as libregf reads them."""
    return data if len(data) not in (1, 2, 3) else b"?" * len(data)


def by_libregf(path: str) -> dict[str, dict[str, tuple[int, bytes]]]:
    """Return every key's values as libregf reads them: a third way to read the same bytes.

    It takes 1 to 3 bytes from the wrong end of the field that they are in (regipy does not), so those are `short`.
    """
    import pyregf

    file = pyregf.file()
    file.open(path)
    found: dict[str, dict[str, tuple[int, bytes]]] = {}

    def walk(key: object, path: str) -> Iterator[None]:
        values = [key.get_value(n) for n in range(key.number_of_values)]  # type: ignore[attr-defined]
        found[path] = {v.name or "": (v.type, short(bytes(v.data or b""))) for v in values}
        for n in range(key.number_of_sub_keys):  # type: ignore[attr-defined]
            child = key.get_sub_key(n)  # type: ignore[attr-defined]
            yield from walk(child, f"{path}\\{child.name}".strip("\\"))

    list(walk(file.get_root_key(), ""))
    file.close()
    return found
