"""`machine` in a guest under real firmware: its facts are right, and firmware does what is foretold from them."""

from __future__ import annotations

import base64
import json
import re
import struct
import subprocess
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.content.contents import Literal
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.machine.known import KnownMachine, known_machine
from lucky_keystone.planning.make import make_plan
from lucky_keystone.rehearsal.emulator import FIRMWARES, find_image
from lucky_keystone.starting.authenticode import image_digest

from ..helpers.amount import sample_of
from ..helpers.drives import Built
from ..helpers.judges import need
from ..helpers.signing import SHA256, X509, Shop, list_of
from .emulator import need_firmware, start
from .guest import kernel, memory_files, program_files, run_guest
from .matrix import SECURE, build_shape, lab_source
from .secure import DATABASES, SHIM, A, B, certificate, shop, with_loader

__all__ = ["shop"]
pytestmark = pytest.mark.lab
SWITCH = "f0a30bc7-af08-4556-99c4-001009c93a44"
"""Of the firmware's own variable that turns Secure Boot off while its keys stay."""
SCRIPT = """
mount -t efivarfs efivarfs /sys/firmware/efi/efivars
cd /tmp; {program} machine --save /tmp/here.toml --name Guest -q
for file in here.toml here.db here.dbx; do
    [ -e $file ] && echo "LAB FILE $file" && base64 $file && echo "LAB END"
done
"""


@dataclass(frozen=True)
class Case:
    """A machine, its facts, and what becomes of drives by the signer of their loader; '' for none."""

    firmware: str
    facts: dict[str, object]
    starts: dict[str, bool]
    secure: bool | None = None
    """Whether Secure Boot is on; None: it has no keys."""
    processor: str = "max"


CASES = {
    "BIOS": Case(
        "bios",
        {"started_by": "bios", "bios": "yes", "uefi": None, "secure_boot": None, "popcnt": "no", "sse4_2": "no"},
        {"": False, "on MBR": True},
        processor="qemu64,-popcnt,-sse4.2",
    ),
    "UEFI": Case(
        "uefi-x64",
        {"started_by": "uefi", "uefi": "yes", "bios": None, "uefi_width": 64, "secure_boot": "setup mode",
         "popcnt": "yes", "sse4_2": "yes"},
        {"": True},
    ),
    "32-bit UEFI under a 64-bit kernel": Case(
        "uefi-x86",
        {"started_by": "uefi", "uefi_width": 32, "architecture": "x64", "secure_boot": "setup mode"},
        {"": True},
    ),
    "Secure Boot on": Case(
        "uefi-x64", {"secure_boot": "on", "uefi": "yes"}, {A: True, B: False, "vendor": True}, secure=True
    ),
    "Secure Boot off": Case("uefi-x64", {"secure_boot": "off", "uefi": "yes"}, {B: True}, secure=False),
}  # fmt: skip


def vendors(generation: str, shop: Shop, folder: Path) -> bytes:
    """Return the vendors' certificates of a generation as signature lists, which a package for tests carries."""
    command = [need("virt-fw-vars"), "-i", SECURE["uefi-x64"][1], "-d", "db", "-d", "PK", "-d", "KEK", "-d", "dbx"]
    command += ["--enroll-cert", shop.third(), "--microsoft-db", generation, "-o", folder / "v.fd"]
    subprocess.run([*command, "--output-json", folder / "v.json"], check=True, capture_output=True)
    held = json.loads((folder / "v.json").read_text())["variables"]
    return next(bytes.fromhex(each["data"]) for each in held if each["name"] == "db")


def variables(case: Case, shop: Shop, folder: Path) -> tuple[Path, Path] | None:
    """Return firmware and a store that trusts two generations, one workshop, and the guest's kernel; None: empty."""
    if case.secure is None:
        return None
    image, empty = SECURE[case.firmware]
    db = vendors("uefi11", shop, folder) + vendors("uefi23", shop, folder) + list_of(X509, certificate(shop, A))
    db += list_of(SHA256, image_digest(Literal(kernel().read_bytes()), "sha256"))
    time = struct.pack("<H5B9x", 2026, 11, 1, 0, 0, 0).hex()
    held = [
        {"name": name, "guid": DATABASES, "attr": 39, "data": data.hex(), "time": time}
        for name, data in (("db", db), ("dbx", list_of(SHA256, bytes(32))))
    ]
    held.append({"name": "SecureBootEnable", "guid": SWITCH, "attr": 3, "data": f"{case.secure:02x}"})
    (folder / "variables.json").write_text(json.dumps({"version": 2, "variables": held}))
    command = [need("virt-fw-vars"), "-i", empty, "-o", folder / "store.fd"]
    subprocess.run([*command, "--set-json", folder / "variables.json"], check=True, capture_output=True)
    return image, folder / "store.fd"


def hardware(case: Case, secure: tuple[Path, Path] | None, folder: Path) -> list[object]:
    """Return the emulator's words for a machine with an internal disk of 3 GiB and an empty stick."""
    for name, size in (("disk", 3 << 30), ("stick", 5 << 30)):
        with (folder / name).open("wb") as file:
            file.truncate(size)
    kind = FIRMWARES[case.firmware]
    words: list[object] = ["-machine", "q35,smm=on", "-cpu", case.processor, "-device", "qemu-xhci"]
    words += ["-drive", f"if=virtio,format=raw,file={folder}/disk", "-device", "usb-storage,drive=stick"]
    words += ["-drive", f"if=none,id=stick,format=raw,file={folder}/stick"]
    if kind.images:
        image, store = secure or (find_image(kind.images), find_image(kind.stores))
        assert image is not None
        if "secboot" in image.name:
            words += ["-global", "driver=cfi.pflash01,property=secure,value=on"]
        words += ["-drive", f"if=pflash,format=raw,readonly=on,file={image}"]
        words += ["-drive", f"if=pflash,format=raw,snapshot=on,file={store}"]
    return words


def looked_at(case: Case, secure: tuple[Path, Path] | None, folder: Path) -> KnownMachine:
    """Run the program in the guest, and read the files that it has saved there."""
    files, program = program_files("machine", "--save", str(folder / "here.toml"), "--name", "Here", "-q")
    modules = ("virtio_blk", "efivarfs", "usb-common", "usbcore", "xhci-hcd", "xhci-pci", "scsi_common", "scsi_mod",
               "sd_mod", "usb-storage")  # fmt: skip
    archive = memory_files(folder / "guest", modules, SCRIPT.format(program=program), files)
    text = run_guest(folder, archive, *hardware(case, secure, folder), memory=1024)
    (folder / "seen").mkdir()
    for name, data in re.findall(r"^LAB FILE (\S+)\n(.*?)^LAB END$", text, re.MULTILINE | re.DOTALL):
        (folder / "seen" / name).write_bytes(base64.b64decode(data))
    assert (folder / "seen/here.toml").exists(), text[-3000:]
    return known_machine(folder / "seen/here.toml", None)


def drive(signer: str, shop: Shop, folder: Path) -> Built:
    folder.mkdir()
    if signer == "on MBR":
        built = build_shape(lab_source(folder, signed=False), folder, "mbr", "both", "fat32")
        assert not isinstance(built, KeystoneError)
        return built
    if not signer:
        built = build_shape(lab_source(folder, signed=False), folder, "gpt", "uefi", "fat32")
        assert not isinstance(built, KeystoneError)
        return built
    loader = SHIM.read_bytes() if signer == "vendor" else shop.sign(uefi_loader("x64"), signer)
    return with_loader(folder, loader, "fat32")


@pytest.mark.parametrize("name", sample_of([*CASES], ["BIOS", "Secure Boot on"]))
def test_what_is_foretold_from_the_facts_is_what_firmware_does(name: str, shop: Shop, tmp_path: Path) -> None:
    case = CASES[name]
    need_firmware(case.firmware)
    secure = variables(case, shop, tmp_path)
    machine = looked_at(case, secure, tmp_path)
    facts = machine.facts
    assert {key: getattr(facts, key) for key in case.facts} == case.facts
    assert (facts.name, facts.storage, facts.security_module) == ("Guest", 3 << 30, "none")
    assert facts.memory is not None
    assert 0.9 * (1 << 30) <= facts.memory <= 1 << 30
    if secure is not None:
        trusted = machine.machine.trusted
        assert trusted is not None
        subjects = {each.subject.native["common_name"] for each in trusted.certificates}
        assert {"Microsoft Corporation UEFI CA 2011", "Microsoft UEFI CA 2023", A} <= subjects
    for signer, starts in case.starts.items():
        if signer == "vendor" and not SHIM.exists():
            continue
        built = drive(signer, shop, tmp_path / f"drive {signer}")
        plan = make_plan(built.source, built.plan.choices, built.plan.drive)
        foretold = machine.outlook(plan.bootable)
        assert (foretold.verdict == "starts") is starts, foretold
        image, store = secure or (None, None)
        serial = start(built.path, case.firmware, image=image, store=store).serial
        done = "Access Denied" not in serial if signer == "vendor" else re.search("TIDEWELL (UEFI|BIOS) DONE", serial)
        assert bool(done) is starts, serial[-2000:]
