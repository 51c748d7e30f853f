"""Flat packages with made-up contents: an encoder that the product itself has no use for."""

from __future__ import annotations

import gzip
import hashlib
import struct
import zlib
from base64 import b64encode
from collections.abc import Mapping
from pathlib import Path

_FOLDER, _FILE, _LINK = 0o040755, 0o100000, 0o120755


def flat_package(members: Mapping[str, bytes], certificate: bytes) -> bytes:
    """Return a xar archive (`sources/xar.py`) with these files, and in its signature a certificate (DER)."""
    at, files = hashlib.sha1(b"", usedforsecurity=False).digest_size, ""
    for number, (name, data) in enumerate(members.items(), 1):
        files += (
            f'<file id="{number}"><name>{name}</name><type>file</type><data><offset>{at}</offset>'
            f"<length>{len(data)}</length><size>{len(data)}</size>"
            '<encoding style="application/octet-stream"/></data></file>'
        )
        at += len(data)
    table = (
        '<?xml version="1.0" encoding="UTF-8"?><xar><toc><checksum style="sha1"><offset>0</offset><size>20</size>'
        '</checksum><signature style="RSA"><KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data>'
        f"<X509Certificate>{b64encode(certificate).decode()}</X509Certificate></X509Data></KeyInfo></signature>"
        f"{files}</toc></xar>"
    ).encode()
    packed = zlib.compress(table)
    header = b"xar!" + struct.pack(">HHQQI", 28, 1, len(packed), len(table), 1)
    return header + packed + hashlib.sha1(packed, usedforsecurity=False).digest() + b"".join(members.values())


def payload_of(app: Path, *, without: str) -> bytes:
    """Return the payload that puts an app into Applications: cpio with octal numbers (POSIX.1-2001), gzip around it.

    Files in the app's folder `without` are left out.
    """
    archive = _entry(1, "./Applications", _FOLDER, b"") + _entry(2, f"./Applications/{app.name}", _FOLDER, b"")
    for number, path in enumerate((path for path in sorted(app.rglob("*")) if path.parent != app / without), 3):
        mode, data = _kept(path)
        archive += _entry(number, f"./Applications/{app.name}/{path.relative_to(app).as_posix()}", mode, data)
    return gzip.compress(archive + _entry(0, "TRAILER!!!", 0, b""), mtime=0)


def _kept(path: Path) -> tuple[int, bytes]:
    if path.is_symlink():
        return _LINK, path.readlink().as_posix().encode()
    if path.is_dir():
        return _FOLDER, b""
    return _FILE | (0o755 if path.parent.name == "MacOS" else 0o644), path.read_bytes()


def _entry(number: int, name: str, mode: int, data: bytes) -> bytes:
    stored = name.encode() + b"\0"
    head = "070707" + "".join(f"{field:06o}" for field in (0, number, mode, 0, 0, 1, 0))
    return f"{head}{0:011o}{len(stored):06o}{len(data):011o}".encode() + stored + data
