"""What starts with Secure Boot need: a workshop, the vendors' loader of the archive, drives with any loader."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import Built
from ..helpers.judges import need
from ..helpers.signing import Shop
from .matrix import SECURE, build_shape, lab_source

A, B = "Tidewell Authority", "Another Authority"
DATABASES = "d719b2cb-3d3a-4596-a3bc-dad00e67656f"
SHIM = Path(__file__).parents[2] / ".lab-images/usr/lib/shim/shimx64.efi.signed"


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Shop:
    need("sbsign")
    need("virt-fw-vars")
    if not all(image.exists() for image in SECURE["uefi-x64"]):
        pytest.skip("firmware with Secure Boot is not installed")
    return Shop(tmp_path_factory.mktemp("shop"))


def certificate(shop: Shop, name: str) -> bytes:
    command = [need("openssl"), "x509", "-in", f"{name}.pem", "-outform", "DER"]
    return subprocess.run(command, cwd=shop.folder, check=True, capture_output=True).stdout


def with_loader(folder: Path, loader: bytes, file_system: str) -> Built:
    over = folder / "over/efi/boot"
    over.mkdir(parents=True)
    (over / "bootx64.efi").write_bytes(loader)
    source = lab_source(folder, signed=False)
    built = build_shape(open_source(source.path, [folder / "over"]), folder, "gpt", "uefi", file_system)
    assert not isinstance(built, KeystoneError)
    return built
