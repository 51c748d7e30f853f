"""A workshop that signs loaders, by another program, and signature lists as firmware keeps them."""

from __future__ import annotations

import struct
import subprocess
import uuid
from pathlib import Path

import pytest

from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.trust import SignatureDatabase

from .judges import need

OWNER = uuid.uuid5(uuid.NAMESPACE_DNS, "workshop.tidewell.example")


def list_of(kind: str, *signatures: bytes) -> bytes:
    size = 16 + len(signatures[0])
    body = b"".join(OWNER.bytes_le + each for each in signatures)
    return uuid.UUID(kind).bytes_le + struct.pack("<III", 28 + len(body), 0, size) + body


SHA256, X509 = "c1c41626-504c-4092-aca9-41f936934328", "a5c059a1-94e4-4aa7-87b5-ab155c2bf072"
X509_SHA256, RSA2048 = "3bd2a492-96c0-4079-b420-fcf98ef103ed", "3c5766e8-269c-4e34-aa14-ed776e85b3b6"


class Shop:
    """A workshop with an authority of its own, and a key that the authority signed for."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.authority = self._certificate("Tidewell Authority")
        self.other = self._certificate("Another Authority")
        request = [
            "req",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            "shop.key",
            "-out",
            "shop.csr",
            "-subj",
            "/CN=Tidewell Workshop",
        ]
        self._openssl(*request)
        authority = ["-CA", "Tidewell Authority.pem", "-CAkey", "Tidewell Authority.key", "-CAcreateserial"]
        self._openssl("x509", "-req", "-in", "shop.csr", *authority, "-out", "shop.pem", "-days", "30", "-sha256")

    def _openssl(self, *arguments: str) -> None:
        subprocess.run([need("openssl"), *arguments], cwd=self.folder, check=True, capture_output=True)

    def _certificate(self, name: str) -> Path:
        files = ["-keyout", f"{name}.key", "-out", f"{name}.pem"]
        self._openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", *files, "-days", "30", "-subj", f"/CN={name}")
        return self.folder / f"{name}.pem"

    def database(self, *names: str) -> SignatureDatabase:
        return SignatureDatabase.joined(read_database(self.folder / f"{name}.pem") for name in names)

    def third(self) -> Path:
        place = self.folder / "A Third Authority.pem"
        return place if place.exists() else self._certificate("A Third Authority")

    def sign(self, loader: bytes, name: str = "shop") -> bytes:
        """Sign with the workshop's key or another one's, by another program; a signature that is there stays."""
        (self.folder / "plain.efi").write_bytes(loader)
        keys = ["--key", f"{name}.key", "--cert", f"{name}.pem"]
        command = [need("sbsign"), *keys, "--output", "signed.efi", "plain.efi"]
        subprocess.run(command, cwd=self.folder, check=True, capture_output=True)
        return (self.folder / "signed.efi").read_bytes()


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Shop:
    need("sbsign")
    return Shop(tmp_path_factory.mktemp("shop"))


def generation(shop: Shop, name: str) -> str:
    """Have the workshop an authority of a vendor's name; return that."""
    if not (shop.folder / f"{name}.pem").exists():
        shop._certificate(name)
    return name
