"""Short names (8.3) beside long ones, on FAT and NTFS alike (fatgen103, "The Basis-Name Generation Algorithm")."""

from __future__ import annotations

from collections.abc import Iterable

SHORT_CHARACTERS = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789$%'-_@~`!(){}^#&")


def fold(name: str) -> str:
    """Return `name` as systems compare it: each character on its own in upper case."""
    if name.isascii():
        return name.upper()
    return "".join(upper if len(upper := character.upper()) == 1 else character for character in name)


def exact_short_name(name: str) -> bytes | None:
    """Return the 11 bytes of a name that needs no long entry (upper-case ASCII, 8.3), else None."""
    base, dot, extension = name.partition(".")
    if (
        not 1 <= len(base) <= 8
        or len(extension) > 3
        or (dot and not extension)
        or "." in extension
        or not name.isascii()
    ):
        return None
    stored = base.encode().ljust(8) + extension.encode().ljust(3)
    return stored if SHORT_CHARACTERS.issuperset((base + extension).encode()) else None


class ShortNames:
    """Gives each name of one folder a short name of its own.

    A name that fits 8.3 once it is in upper case keeps that (boot code looks BOOTMGR up by it), whatever order the
    names come in; others get the basis cut to fit, and ~N (the numeric tail).
    """

    def __init__(self, names: Iterable[str]) -> None:
        self._own: dict[str, bytes] = {}
        for name in names:
            stored = exact_short_name(fold(name))
            if stored is not None:
                self._own[name] = stored
        self._taken = set(self._own.values())
        self._next_number: dict[bytes, int] = {}

    def is_own(self, name: str) -> bool:
        """True when the name itself, in upper case, is its short name."""
        return name in self._own

    def of(self, name: str) -> bytes:
        """Return the 11 bytes for `name`; each name is asked for once."""
        own = self._own.get(name)
        if own is not None:
            return own
        base, extension = _basis(name)
        key = base[:6] + b"." + extension
        number = self._next_number.get(key, 1)
        while True:
            tail = b"~%d" % number
            number += 1
            stored = (base[: 8 - len(tail)] + tail).ljust(8) + extension.ljust(3)
            if stored not in self._taken:
                self._taken.add(stored)
                self._next_number[key] = number
                return stored


def _basis(name: str) -> tuple[bytes, bytes]:
    """Return base and extension in the short character set: blanks and leading dots go, other characters become _."""
    text = name.upper().replace(" ", "").lstrip(".")
    base, dot, extension = text.rpartition(".")
    if not dot:
        base, extension = text, ""
    return _reduced(base.replace(".", ""), 8) or b"_", _reduced(extension, 3)


_REDUCTION = bytes(code if code in SHORT_CHARACTERS else ord("_") for code in range(256))


def _reduced(text: str, length: int) -> bytes:
    return text[:length].encode("ascii", "replace").translate(_REDUCTION)
