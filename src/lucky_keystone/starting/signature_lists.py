"""Reads what a machine trusts and refuses from files: certificates, and signature lists as firmware keeps them.

Lists (UEFI 2.10, 32.4.1) come as they are, behind the 4 bytes of attributes with which Linux shows a variable
(`/sys/firmware/efi/efivars/db-…`), or behind the authentication of an update (32.4.2, EFI_VARIABLE_AUTHENTICATION_2).
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID

from asn1crypto import pem, x509

from ..common.errors import UsageError, naming
from ..common.record import Record, raw, record, u8, u16, u32
from .damaged import DAMAGED
from .trust import Digest, RevokedCertificate, SignatureDatabase

_LARGEST_FILE = 16 << 20
_ATTRIBUTES = 4
_OWNER = 16
_CERTIFICATE_OF_UPDATE = 0x0EF1
_PKCS7 = UUID("4aafd29d-68df-49ee-8aa9-347d375665a7").bytes_le
_X509 = UUID("a5c059a1-94e4-4aa7-87b5-ab155c2bf072").bytes_le
_DIGESTS = {
    UUID("826ca512-cf10-4ac9-b187-be01496631bd").bytes_le: "sha1",
    UUID("0b6e5233-a65c-44c9-9407-d9ab83bfc8bd").bytes_le: "sha224",
    UUID("c1c41626-504c-4092-aca9-41f936934328").bytes_le: "sha256",
    UUID("ff3e5307-9fd0-48c9-85f1-8ad56c701e01").bytes_le: "sha384",
    UUID("093e0fae-a6c4-4f50-9f1b-d41e2b89c19a").bytes_le: "sha512",
}
_CERTIFICATE_DIGESTS = {
    UUID("3bd2a492-96c0-4079-b420-fcf98ef103ed").bytes_le: "sha256",
    UUID("7076876e-80c2-4ee6-aad2-28b349a6865b").bytes_le: "sha384",
    UUID("446dbf63-2502-4cda-bcfa-2465d2b0fe9d").bytes_le: "sha512",
}
_TYPES = {_X509, *_DIGESTS, *_CERTIFICATE_DIGESTS}
_SIZES = {"sha1": 20, "sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}
"""Bytes of a digest."""


@record(size=28)
class SignatureList(Record):
    """In front of signatures of one type and size (EFI_SIGNATURE_LIST, UEFI 2.10, 32.4.1)."""

    type: bytes = raw(0, 16, "GUID of the signatures' type")
    list_size: int = u32(16, "bytes, with this head")
    header_size: int = u32(20, "bytes between this head and the first signature", default=0)
    signature_size: int = u32(24, "bytes of each signature, with its owner's GUID")


@record(size=16)
class EfiTime(Record):
    """A moment (EFI_TIME, UEFI 2.10, 8.3)."""

    year: int = u16(0, "1900 to 9999; 0 with all else for none")
    month: int = u8(2, "1 to 12")
    day: int = u8(3, "1 to 31")
    hour: int = u8(4, "0 to 23")
    minute: int = u8(5, "0 to 59")
    second: int = u8(6, "0 to 59")
    rest: bytes = raw(7, 9, "nanosecond, time zone, daylight", default=bytes(9))


@record(size=24)
class UpdateAuthentication(Record):
    """Behind the time of an update: its signature (WIN_CERTIFICATE_UEFI_GUID, UEFI 2.10, 32.2.4)."""

    length: int = u32(0, "bytes, with this head")
    revision: int = u16(4, "0200h")
    type: int = u16(6, "0EF1h")
    kind: bytes = raw(8, 16, "GUID of a PKCS #7 signature")


def read_database(path: Path) -> SignatureDatabase:
    """Read a certificate (PEM or DER), or signature lists. Raises UsageError for what is neither."""
    with naming(str(path), UsageError, advice="Check the path of the file."):
        size = path.stat().st_size
        data = path.read_bytes() if size <= _LARGEST_FILE else b""
    if size > _LARGEST_FILE:
        raise UsageError(f"{path} has {size:,} bytes: too many for certificates.", advice=_ADVICE)
    return database_of(os.fspath(path), data)


def database_of(name: str, data: bytes) -> SignatureDatabase:
    """Return what a certificate (PEM or DER) or signature lists hold. Raises UsageError, which calls them `name`."""
    certificate = _certificate(data)
    if certificate is not None:
        return SignatureDatabase((certificate,))
    lists = _beginning_of_lists(data)
    if lists is None:
        raise UsageError(f"{name}: no certificate and no signature list can be read.", advice=_ADVICE)
    return _Lists(name, data, lists).read()


_ADVICE = "Use a certificate (PEM or DER), or signature lists (db, dbx) as firmware keeps them."


def _certificate(data: bytes) -> x509.Certificate | None:
    try:
        if pem.detect(data):
            _, _, data = pem.unarmor(data)
        certificate = x509.Certificate.load(data, strict=True)
        _ = certificate.subject.native, certificate.issuer.native, certificate.public_key.algorithm
    except DAMAGED:
        return None
    return certificate


def _beginning_of_lists(data: bytes) -> int | None:
    """Return where signature lists begin; None where there are none."""
    for start in (0, _ATTRIBUTES):
        head = data[start : start + SignatureList.SIZE]
        if head[:16] in _TYPES or (len(head) == SignatureList.SIZE and _is_plausible(head, len(data) - start)):
            return start
    if len(data) == _ATTRIBUTES:
        return _ATTRIBUTES  # a variable that holds nothing
    update = data[EfiTime.SIZE : EfiTime.SIZE + UpdateAuthentication.SIZE]
    if len(update) == UpdateAuthentication.SIZE:
        leading = UpdateAuthentication.unpack(update)
        if leading.type == _CERTIFICATE_OF_UPDATE and leading.kind == _PKCS7 and leading.length >= len(update):
            return EfiTime.SIZE + leading.length
    return None


def _is_plausible(head: bytes, left: int) -> bool:
    """Tell whether this is a list of another type: they may stand anywhere, and firmware passes over them."""
    found = SignatureList.unpack(head)
    room = found.list_size - SignatureList.SIZE - found.header_size
    return found.list_size <= left and found.signature_size > _OWNER and room > 0 and not room % found.signature_size


class _Lists:
    def __init__(self, name: str, data: bytes, start: int) -> None:
        self._name, self._data, self._start = name, data, start

    def read(self) -> SignatureDatabase:
        certificates: list[x509.Certificate] = []
        digests: list[Digest] = []
        revoked: list[RevokedCertificate] = []
        for at, kind, signature in self._signatures():
            if kind == _X509:
                certificate = _certificate(signature)
                if certificate is None:
                    raise self._fault(at, "a certificate cannot be read")
                certificates.append(certificate)
            elif kind in _DIGESTS:
                digests.append((_DIGESTS[kind], self._digest(at, _DIGESTS[kind], signature, 0)))
            elif kind in _CERTIFICATE_DIGESTS:
                name = _CERTIFICATE_DIGESTS[kind]
                digest = self._digest(at, name, signature, EfiTime.SIZE)
                revoked.append(RevokedCertificate((name, digest), self._moment(at, signature[_SIZES[name] :])))
        return SignatureDatabase(tuple(certificates), frozenset(digests), tuple(revoked))

    def _signatures(self) -> Iterator[tuple[int, bytes, bytes]]:
        """Yield where each signature is, its type and its bytes without the owner."""
        at = self._start
        while at < len(self._data):
            if at + SignatureList.SIZE > len(self._data):
                raise self._fault(at, "it ends within the head of a list")
            head = SignatureList.unpack(self._data[at : at + SignatureList.SIZE])
            first, end = at + SignatureList.SIZE + head.header_size, at + head.list_size
            if end > len(self._data) or first > end or head.list_size < SignatureList.SIZE:
                raise self._fault(at, f"a list of {head.list_size:,} bytes does not fit into it")
            if head.signature_size <= _OWNER or (end - first) % head.signature_size:
                raise self._fault(at, f"signatures of {head.signature_size:,} bytes do not fill their list")
            for place in range(first, end, head.signature_size):
                yield place, head.type, self._data[place + _OWNER : place + head.signature_size]
            at = end

    def _digest(self, at: int, name: str, signature: bytes, behind: int) -> bytes:
        if len(signature) != _SIZES[name] + behind:
            raise self._fault(at, f"a digest of {len(signature):,} bytes is not a {name} digest")
        return signature[: _SIZES[name]]

    def _moment(self, at: int, data: bytes) -> datetime | None:
        time = EfiTime.unpack(data)
        if not any(data[:7]):
            return None
        try:
            return datetime(time.year, time.month, time.day, time.hour, time.minute, time.second, tzinfo=UTC)
        except ValueError as error:
            raise self._fault(at, "a time in it is invalid") from error

    def _fault(self, at: int, why: str) -> UsageError:
        return UsageError(f"{self._name}, byte {at:,}: {why}.", advice="Read it from the machine again.")
