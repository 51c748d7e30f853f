"""Security descriptors as files and registry keys have them: self-relative (MS-DTYP 2.4.6)."""

from __future__ import annotations

from collections.abc import Sequence

# Well-known SIDs (MS-DTYP 2.4.2.4).
SYSTEM = bytes.fromhex("0101000000000005 12000000")
ADMINISTRATORS = bytes.fromhex("0102000000000005 20000000 20020000")
EVERYONE = bytes.fromhex("0101000000000001 00000000")
INHERITED_BY_ALL = 3
"""ACE flags OBJECT_INHERIT_ACE and CONTAINER_INHERIT_ACE (MS-DTYP 2.4.4.1)."""


def allowed(flags: int, mask: int, sid: bytes) -> bytes:
    """Return an ACCESS_ALLOWED_ACE (MS-DTYP 2.4.4.2)."""
    return bytes((0, flags)) + (8 + len(sid)).to_bytes(2, "little") + mask.to_bytes(4, "little") + sid


def descriptor(owner: bytes, group: bytes, entries: Sequence[bytes]) -> bytes:
    """Return a SECURITY_DESCRIPTOR with a DACL (MS-DTYP 2.4.6, 2.4.5)."""
    body = b"".join(entries)
    acl = bytes((2, 0)) + (8 + len(body)).to_bytes(2, "little") + len(entries).to_bytes(2, "little") + bytes(2) + body
    owner_at = 20 + len(acl)
    head = bytes((1, 0)) + (0x8004).to_bytes(2, "little")  # self-relative, a DACL is present
    offsets = (owner_at, owner_at + len(owner), 0, 20)
    return head + b"".join(offset.to_bytes(4, "little") for offset in offsets) + acl + owner + group
