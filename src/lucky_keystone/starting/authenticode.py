"""Who signed a UEFI loader, and whether it is still what was signed.

The digest leaves out what signing changes (vendor's description "Windows Authenticode Portable Executable Signature
Format", "Calculating the PE Image Hash"); the signature is a PKCS #7 SignedData (RFC 2315) in the file's certificate
table, RSA with PKCS #1 v1.5 padding (RFC 8017, 8.2.2). What firmware makes of it is UEFI 2.10, 32.5.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from asn1crypto import algos, cms, parser, tsp, x509
from msgspec import Struct

from ..common.record import Record, raw, record, u16, u32
from ..content.contents import SizedReadable
from .damaged import DAMAGED
from .pe import CoffHeader, SectionHeader
from .trust import Digest

_CERTIFICATE_DIRECTORY = 4  # index in the data directories (PE/COFF, "Optional Header Data Directories")
_PKCS_SIGNED_DATA = 2
_MOST_SIGNATURES = 16
_LARGEST_CERTIFICATES = 4 << 20
_LARGEST_KEY = 16_384  # bits
_BLOCK = 1 << 20
_COUNTER_SIGNATURE, _TIME_STAMP = "1.2.840.113549.1.9.6", "1.3.6.1.4.1.311.3.3.1"
_DIGESTS = ("sha1", "sha256", "sha384", "sha512")


@record(size=8)
class WinCertificate(Record):
    """In front of each signature of the certificate table (WIN_CERTIFICATE, UEFI 2.10, 32.2.4)."""

    length: int = u32(0, "bytes of this entry")
    revision: int = u16(4, "0200h", default=0x0200)
    type: int = u16(6, "2 = PKCS #7 signed data", default=_PKCS_SIGNED_DATA)


@record(size=8)
class DataDirectory(Record):
    """Where a table of a PE file lies."""

    address: int = u32(0, "of the certificate table: offset in the file, in bytes")
    size: int = u32(4, "bytes")


@record(size=4)
class _Lead(Record):
    magic: int = u16(0, "10Bh with 32-bit addresses, 20Bh with 64-bit ones")
    linker: bytes = raw(2, 2, "version")


class Signature(Struct, frozen=True):
    """What a loader's signature says."""

    signer: str
    """Common name of who signed."""
    issuer: str
    """Common name of who certified the signer."""
    fits: bool
    """True when the file is what was signed, and the signature is the signer's."""
    why: str
    """What does not fit."""
    chain: tuple[x509.Certificate, ...]
    """The signer's certificate first."""
    digest: Digest | None = None
    """Of the file as it is now, by the function that this signature names; None where it cannot be told."""
    attested: datetime | None = None
    """When it was made, as somebody else attested; None: nobody did."""

    def led_to(self, certificates: Sequence[x509.Certificate]) -> x509.Certificate | None:
        """Return the first that is in the chain, or certified a part of it; None: none (UEFI 2.10, 32.5.3.3).

        It need not be a root, nor lie in the file. How long a certificate is valid does not count for firmware.
        """
        own = {certificate.dump() for certificate in self.chain}
        for certificate in certificates:
            if certificate.dump() in own or any(_vouches(certificate, below) for below in self.chain):
                return certificate
        return None


def read_signatures(content: SizedReadable) -> tuple[Signature, ...]:
    """Return all signatures of a PE file, in their order; firmware looks at each of them (UEFI 2.10, 32.5.3.3).

    A damaged one is a Signature that does not fit.
    """
    found: list[Signature] = []
    try:
        layout = _Layout(content)
        for entry in layout.entries() if layout.table.size else ():
            found.append(_read_entry(layout, entry))
    except DAMAGED as error:
        return (*found, Signature("", "", False, f"its signature cannot be read ({_first_line(error)})", ()))
    return tuple(found)


def _read_entry(layout: _Layout, entry: bytes) -> Signature:
    try:
        return _examine(layout, cms.ContentInfo.load(entry)["content"])
    except DAMAGED as error:
        return Signature("", "", False, f"its signature is damaged ({_first_line(error)})", ())


def _first_line(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0]


class _Layout:
    """The parts of a PE file that matter for its digest."""

    def __init__(self, content: SizedReadable) -> None:
        self._content = content
        self._digests: dict[str, bytes] = {}
        head = self._read(0, 64)
        start = int.from_bytes(head[60:64], "little")
        self._coff = CoffHeader.unpack(self._read(start, CoffHeader.SIZE))
        optional = start + CoffHeader.SIZE
        self._sections_at = optional + self._coff.optional_size
        wide = _Lead.unpack(self._read(optional, 4)).magic == 0x20B
        self._checksum = optional + 64
        self.directory = optional + (112 if wide else 96) + _CERTIFICATE_DIRECTORY * DataDirectory.SIZE
        self._headers = int.from_bytes(self._read(optional + 60, 4), "little")
        if self.directory + DataDirectory.SIZE > self._sections_at:
            self.table = DataDirectory(address=0, size=0)
        else:
            self.table = DataDirectory.unpack(self._read(self.directory, DataDirectory.SIZE))
        if self.table.size and self.table.address + self.table.size > content.size:
            raise ValueError("its certificate table lies outside the file")

    def _read(self, offset: int, size: int) -> bytes:
        """Return exactly these bytes of the file. Raises ValueError when they lie outside it."""
        if offset < 0 or size < 0 or offset + size > self._content.size:
            raise ValueError(f"{size} bytes at {offset} lie outside the file")
        return self._content.read_at(offset, size)

    def entries(self) -> Iterator[bytes]:
        """Yield the PKCS #7 entries of the certificate table. Raises ValueError when there is none."""
        at, end = self.table.address, self.table.address + self.table.size
        count = 0
        while at + WinCertificate.SIZE <= end and count < _MOST_SIGNATURES:
            entry = WinCertificate.unpack(self._read(at, WinCertificate.SIZE))
            if not WinCertificate.SIZE < entry.length <= min(end - at, _LARGEST_CERTIFICATES):
                raise ValueError(f"an entry of {entry.length} bytes in its certificate table")
            if entry.type == _PKCS_SIGNED_DATA:
                count += 1
                yield self._read(at + WinCertificate.SIZE, entry.length - WinCertificate.SIZE)
            at += entry.length + 7 & ~7
        if not count:
            raise ValueError("its certificate table has no signature")

    def _spans(self) -> Iterator[tuple[int, int]]:
        """Yield (start, end) of what the digest is taken over."""
        yield 0, self._checksum
        yield self._checksum + 4, self.directory
        yield self.directory + DataDirectory.SIZE, self._headers
        table = self._read(self._sections_at, SectionHeader.SIZE * self._coff.section_count)
        sections = [SectionHeader.unpack(table, SectionHeader.SIZE * n) for n in range(self._coff.section_count)]
        done = self._headers
        for section in sorted((s for s in sections if s.raw_size), key=lambda section: section.raw_offset):
            yield section.raw_offset, section.raw_offset + section.raw_size
            done += section.raw_size
        yield done, self._content.size - self.table.size

    def digest(self, name: str) -> bytes:
        """Return the file's digest as it is now; taken once however many signatures there are."""
        if name in self._digests:
            return self._digests[name]
        digest = hashlib.new(name)
        for start, end in self._spans():
            for at in range(start, end, _BLOCK):
                digest.update(self._read(at, min(_BLOCK, end - at)))
        self._digests[name] = digest.digest()
        return self._digests[name]


def image_digest(content: SizedReadable, name: str) -> bytes:
    """Return what a signature of a PE file is about: its digest without what signing changes. Raises ValueError."""
    return _Layout(content).digest(name)


def unsigned_digest(content: SizedReadable) -> Digest | None:
    """Return what firmware compares with its databases where a file has no signature; None for no sound PE file."""
    try:
        return "sha256", image_digest(content, "sha256")
    except DAMAGED:
        return None


def security_directory(content: SizedReadable) -> int:
    """Return the byte of a PE file where the directory of its certificate table is. Raises ValueError."""
    return _Layout(content).directory


def _examine(layout: _Layout, signed: Any) -> Signature:
    certificates = [choice.chosen for choice in signed["certificates"]]
    signer_info = signed["signer_infos"][0]
    serial = signer_info["sid"].chosen["serial_number"].native
    issuer = signer_info["sid"].chosen["issuer"]
    signer = next((c for c in certificates if c.serial_number == serial and c.issuer == issuer), None)
    if signer is None:
        raise ValueError("it does not bring its signer's certificate")
    names = _common_name(signer.subject), _common_name(signer.issuer)
    chain = tuple(_chain(signer, certificates))
    content = signed["encap_content_info"]["content"]
    # SpcIndirectDataContent: a description, then DigestInfo (algorithm and digest).
    body = content.parsed.contents
    words = _DigestInfo.load(body[_length(body) :])
    name = words["digest_algorithm"]["algorithm"].native
    if name not in _DIGESTS:
        return Signature(*names, False, f"its digest is of an unknown kind ({name})", chain)
    digest, attested = (name, layout.digest(name)), _attested(signer_info["unsigned_attrs"])

    def found(why: str = "") -> Signature:
        return Signature(*names, not why, why, chain, digest, attested)

    if digest[1] != words["digest"].native:
        return found("it was changed after it was signed: its digest does not fit")
    attributes = signer_info["signed_attrs"]
    hash_name = signer_info["digest_algorithm"]["algorithm"].native
    noted = next((a["values"][0].native for a in attributes if a["type"].native == "message_digest"), b"")
    if hashlib.new(hash_name, body).digest() != noted:
        return found("the digest in its signature was changed")
    signed_bytes = b"\x31" + attributes.dump()[1:]  # as a SET OF, not as the tagged field (RFC 2315, 9.3)
    if not _rsa_fits(signer, signer_info["signature"].native, hash_name, signed_bytes):
        return found("its signature is not that of the signer it names")
    return found()


def _attested(attributes: Any) -> datetime | None:
    """Return the time of a counter-signature (RFC 5652, 11.4) or of a time-stamp token (RFC 3161). Not proven here."""
    try:
        for attribute in attributes:
            kind = attribute["type"].dotted
            if kind == _COUNTER_SIGNATURE:
                for below in attribute["values"][0]["signed_attrs"]:
                    if below["type"].native == "signing_time":
                        return _moment(below["values"][0].native)
            elif kind == _TIME_STAMP:
                token = cms.ContentInfo.load(attribute["values"][0].dump())["content"]["encap_content_info"]["content"]
                return _moment(tsp.TSTInfo.load(token.contents)["gen_time"].native)
    except DAMAGED:
        return None
    return None


def _moment(found: Any) -> datetime | None:
    return found if isinstance(found, datetime) else None


class _DigestInfo(algos.DigestInfo):  # type: ignore[misc]
    """DigestInfo (RFC 2315, 9.4)."""


def _length(data: bytes) -> int:
    """Return the bytes of the first DER value in `data`."""
    info = parser.parse(data, strict=False)
    return len(info[3]) + len(info[4]) + len(info[5])


def _chain(signer: x509.Certificate, others: Sequence[x509.Certificate]) -> Iterator[x509.Certificate]:
    """Yield the signer and whoever certified the one before, each proven."""
    here, left = signer, [c for c in others if c.dump() != signer.dump()]
    while True:
        yield here
        above = next((c for c in left if c.subject == here.issuer and _vouches(c, here)), None)
        if above is None:
            return
        left.remove(above)
        here = above


def _vouches(above: x509.Certificate, below: x509.Certificate) -> bool:
    try:
        algorithm = below["signature_algorithm"]
        if above.subject != below.issuer or algorithm.signature_algo != "rsassa_pkcs1v15":
            return False
        return _rsa_fits(above, below["signature_value"].native, algorithm.hash_algo, below["tbs_certificate"].dump())
    except DAMAGED:
        return False


def _rsa_fits(certificate: x509.Certificate, signature: bytes, hash_name: str, data: bytes) -> bool:
    """Verify an RSA signature (RFC 8017, 8.2.2): what it opens to is padding and the digest of `data`."""
    key = certificate.public_key
    if key.algorithm != "rsa" or hash_name not in _DIGESTS:
        return False
    numbers = key["public_key"].parsed
    modulus, exponent = numbers["modulus"].native, numbers["public_exponent"].native
    if not 0 < modulus < 1 << _LARGEST_KEY or not 0 < exponent < 1 << 64:
        return False  # a forged key must not keep the processor busy
    size = -(-modulus.bit_length() // 8)
    opened = pow(int.from_bytes(signature, "big"), exponent, modulus).to_bytes(size, "big")
    digest = hashlib.new(hash_name, data).digest()
    info = algos.DigestInfo({"digest_algorithm": {"algorithm": hash_name}, "digest": digest}).dump()
    return bool(opened == b"\0\1" + b"\xff" * (size - 3 - len(info)) + b"\0" + info)


def _common_name(name: x509.Name) -> str:
    native = name.native
    found = native.get("common_name") or native.get("organization_name") or ""
    return found if isinstance(found, str) else found[0]
