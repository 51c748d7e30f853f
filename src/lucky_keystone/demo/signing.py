"""Signs the demo's loaders as the Tidewell workshop does its own: by a key that the workshop's authority certified.

Both keys are made from their names, so that everybody has them: they prove nothing but that the demo's forecast works.
"""

from __future__ import annotations

import hashlib
from base64 import b64encode

from msgspec import Struct

from ..content.contents import Literal
from ..content.extents import align_up
from ..starting.authenticode import DataDirectory, WinCertificate, image_digest, security_directory

_EXPONENT = 65537
_OFFSETS = {
    "Tidewell Workshop Authority": (1100, 554),
    "Tidewell Workshop": (124, 1376),
}
"""How far behind the number made from its name each of a key's two primes lies."""

_SHA256, _RSA, _SHA256_RSA = "2.16.840.1.101.3.4.2.1", "1.2.840.113549.1.1.1", "1.2.840.113549.1.1.11"
_COMMON_NAME, _BASIC_CONSTRAINTS, _KEY_USES = "2.5.4.3", "2.5.29.19", "2.5.29.37"
_CODE_SIGNING, _SIGNED_DATA = "1.3.6.1.5.5.7.3.3", "1.2.840.113549.1.7.2"
_CONTENT_TYPE, _MESSAGE_DIGEST = "1.2.840.113549.1.9.3", "1.2.840.113549.1.9.4"
_INDIRECT_DATA, _PE_IMAGE = "1.3.6.1.4.1.311.2.1.4", "1.3.6.1.4.1.311.2.1.15"
_SEQUENCE, _SET, _INTEGER, _OCTETS, _BITS, _NULL, _OID, _UTF8, _TIME = 0x30, 0x31, 2, 4, 3, 5, 6, 12, 0x17


def _der(tag: int, *parts: bytes) -> bytes:
    """Return a value in DER (X.690): tag, length, contents."""
    body = b"".join(parts)
    size = len(body)
    length = bytes([size]) if size < 0x80 else _long(size)
    return bytes([tag]) + length + body


def _long(size: int) -> bytes:
    digits = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes([0x80 | len(digits)]) + digits


def _number(value: int) -> bytes:
    return _der(_INTEGER, value.to_bytes(value.bit_length() // 8 + 1, "big"))


def _oid(text: str) -> bytes:
    first, second, *rest = map(int, text.split("."))
    body = bytes([40 * first + second])
    for arc in rest:
        digits = [arc & 0x7F]
        while arc := arc >> 7:
            digits.insert(0, arc & 0x7F | 0x80)
        body += bytes(digits)
    return _der(_OID, body)


def _algorithm(name: str) -> bytes:
    return _der(_SEQUENCE, _oid(name), _der(_NULL))


class _Key(Struct, frozen=True):
    """An RSA key, and whom it belongs to."""

    name: str
    modulus: int
    private: int

    @property
    def subject(self) -> bytes:
        return _der(_SEQUENCE, _der(_SET, _der(_SEQUENCE, _oid(_COMMON_NAME), _der(_UTF8, self.name.encode()))))

    @property
    def serial(self) -> int:
        return int.from_bytes(hashlib.sha256(self.name.encode()).digest()[:8], "big") >> 1

    def sign(self, data: bytes) -> bytes:
        """RSASSA-PKCS1-v1_5 with SHA-256 (RFC 8017, 8.2.1)."""
        info = _der(_SEQUENCE, _algorithm(_SHA256), _der(_OCTETS, hashlib.sha256(data).digest()))
        size = self.modulus.bit_length() // 8
        padded = b"\0\1" + b"\xff" * (size - 3 - len(info)) + b"\0" + info
        return pow(int.from_bytes(padded, "big"), self.private, self.modulus).to_bytes(size, "big")


def _key(name: str) -> _Key:
    primes = []
    for part, offset in zip("pq", _OFFSETS[name], strict=True):
        start = int.from_bytes(hashlib.shake_256(f"{name} {part}".encode()).digest(128), "big") | 3 << 1022 | 1
        primes.append(start + offset)
    p, q = primes
    return _Key(name, p * q, pow(_EXPONENT, -1, (p - 1) * (q - 1)))


_VALID = b"260101000000Z", b"460101000000Z"


def _certificate(key: _Key, above: _Key, valid: tuple[bytes, bytes] = _VALID) -> bytes:
    """Return an X.509 certificate (RFC 5280) of `key`, signed by `above`; `valid` from and until, in UTC."""
    authority = key == above
    public = _der(_SEQUENCE, _number(key.modulus), _number(_EXPONENT))
    if authority:
        extension = _der(_SEQUENCE, _oid(_BASIC_CONSTRAINTS), b"\1\1\xff", _der(_OCTETS, _der(_SEQUENCE, b"\1\1\xff")))
    else:
        extension = _der(_SEQUENCE, _oid(_KEY_USES), _der(_OCTETS, _der(_SEQUENCE, _oid(_CODE_SIGNING))))
    body = _der(
        _SEQUENCE,
        _der(0xA0, _number(2)),
        _number(key.serial),
        _algorithm(_SHA256_RSA),
        above.subject,
        _der(_SEQUENCE, _der(_TIME, valid[0]), _der(_TIME, valid[1])),
        key.subject,
        _der(_SEQUENCE, _algorithm(_RSA), _der(_BITS, b"\0", public)),
        _der(0xA3, _der(_SEQUENCE, extension)),
    )
    return _der(_SEQUENCE, body, _algorithm(_SHA256_RSA), _der(_BITS, b"\0", above.sign(body)))


def authority_certificate() -> bytes:
    """Return the certificate of the workshop's authority, as PEM: what the crew laptops trust."""
    authority = _key("Tidewell Workshop Authority")
    text = b64encode(_certificate(authority, authority))
    lines = b"\n".join(text[at : at + 64] for at in range(0, len(text), 64))
    return b"-----BEGIN CERTIFICATE-----\n" + lines + b"\n-----END CERTIFICATE-----\n"


def package_certificate(since: str, until: str) -> bytes:
    """Return a certificate, DER, with which the studio signed its packages; days as YYMMDD."""
    authority, workshop = _key("Tidewell Workshop Authority"), _key("Tidewell Workshop")
    return _certificate(workshop, authority, (f"{since}000000Z".encode(), f"{until}000000Z".encode()))


def signed(loader: bytes) -> bytes:
    """Return a UEFI loader with the workshop's signature (PE/COFF specification, "Certificate Data")."""
    loader = loader.ljust(align_up(len(loader), 8), b"\0")
    entry = _signed_data(image_digest(Literal(loader), "sha256"))
    size = align_up(WinCertificate.SIZE + len(entry), 8)
    certificate = WinCertificate(length=size).pack() + entry.ljust(size - WinCertificate.SIZE, b"\0")
    place = security_directory(Literal(loader))
    directory = DataDirectory(address=len(loader), size=len(certificate)).pack()
    return loader[:place] + directory + loader[place + len(directory) :] + certificate


def _signed_data(digest: bytes) -> bytes:
    """Return PKCS #7 signed data (RFC 2315, 9) about a PE file with that digest."""
    authority, workshop = _key("Tidewell Workshop Authority"), _key("Tidewell Workshop")
    nothing = _der(0xA0, _der(0xA2, _der(0x80)))  # no link to the file
    image = _der(_SEQUENCE, _oid(_PE_IMAGE), _der(_SEQUENCE, _der(_BITS, b"\0"), nothing))
    about = image + _der(_SEQUENCE, _algorithm(_SHA256), _der(_OCTETS, digest))
    attributes = sorted(
        (
            _der(_SEQUENCE, _oid(_CONTENT_TYPE), _der(_SET, _oid(_INDIRECT_DATA))),
            _der(_SEQUENCE, _oid(_MESSAGE_DIGEST), _der(_SET, _der(_OCTETS, hashlib.sha256(about).digest()))),
        )
    )
    signer = _der(
        _SEQUENCE,
        _number(1),
        _der(_SEQUENCE, authority.subject, _number(workshop.serial)),
        _algorithm(_SHA256),
        _der(0xA0, *attributes),
        _algorithm(_RSA),
        _der(_OCTETS, workshop.sign(_der(_SET, *attributes))),
    )
    body = _der(
        _SEQUENCE,
        _number(1),
        _der(_SET, _algorithm(_SHA256)),
        _der(_SEQUENCE, _oid(_INDIRECT_DATA), _der(0xA0, _der(_SEQUENCE, about))),
        _der(0xA0, _certificate(workshop, authority), _certificate(authority, authority)),
        _der(_SET, signer),
    )
    return _der(_SEQUENCE, _oid(_SIGNED_DATA), _der(0xA0, body))
