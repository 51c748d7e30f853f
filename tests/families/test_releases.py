"""Older, newer and two-architecture releases: which loaders go onto the drive, and what the forecast says of them."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import seekable
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.families.windows.portable.editions import chosen_edition, editions_of, words_of
from lucky_keystone.planning.make import make_plan
from lucky_keystone.planning.plan import Plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.starting.trust import Machine

from ..helpers.drives import build_drive, check_file
from ..helpers.releases import release
from ..helpers.signing import Shop, generation, shop

__all__ = ["shop"]
INSIDE = "Windows/Boot/EFI/bootmgfw.efi"


def plan_of(folder: Path, **choices: str) -> Plan:
    return make_plan(open_source(folder), Choices(**choices), DriveShape("x.img", None))


def bytes_at(plan: Plan, path: str) -> bytes:
    file = plan.tree.find_file(path)
    assert file is not None
    return seekable(file.content).read_at(0, file.size)


def row(plan: Plan, firmware: str) -> tuple[str, str]:
    return next((each.verdict, each.reason) for each in plan.forecast if each.firmware == firmware)


@pytest.mark.parametrize("method", ["lzx", "xpress"])
def test_an_older_release_starts_by_the_loader_from_inside_its_image(method: str, tmp_path: Path) -> None:
    folder = release(tmp_path / "old", build=7601, loaders={}, inside={INSIDE: uefi_loader("x64")}, method=method)
    plan = plan_of(folder)
    assert bytes_at(plan, "efi/boot/bootx64.efi") == uefi_loader("x64")
    assert bytes_at(plan, "efi/boot/fonts/wharf_boot.ttf") == bytes_at(plan, "efi/microsoft/boot/fonts/wharf_boot.ttf")
    (decision,) = [each for each in plan.decisions if each.topic == "UEFI loader"]
    assert ("sources/install.wim" in decision.value, "edition 1" in decision.reason) == (True, True)
    verdict, reason = row(plan, "UEFI 64-bit")
    assert (verdict, "USB 3" in reason, "CSM" in reason) == ("starts", True, True)
    assert row(plan, "UEFI 64-bit, Secure Boot") == (
        "will not start",
        "releases before build 9200 do not know Secure Boot (this one is 7601)",
    )
    assert "USB 3" in row(plan, "BIOS")[1]
    built = build_drive(open_source(folder), tmp_path / "drive.img")
    assert [(each.firmware, each.verdict, each.reason) for each in check_file(built.path).starts][:4] == [
        (each.firmware, each.verdict, each.reason.replace("the source", "the drive")) for each in plan.forecast
    ][:4]


@pytest.mark.parametrize(
    ("inside", "why"),
    [
        ({}, "no Windows/Boot/EFI/bootmgfw.efi for x64"),
        ({INSIDE: uefi_loader("arm64")}, "no Windows/Boot/EFI/bootmgfw.efi for x64"),
        ({INSIDE: b"MZ nothing"}, "no Windows/Boot/EFI/bootmgfw.efi for x64"),
    ],
)
def test_without_such_a_loader_the_plan_says_why(inside: dict[str, bytes], why: str, tmp_path: Path) -> None:
    folder = release(tmp_path / "old", build=7601, loaders={}, inside=inside)
    plan = plan_of(folder)
    assert any(each.topic == "UEFI loader" and why in each.reason for each in plan.decisions)
    assert row(plan, "UEFI 64-bit")[0] == "will not start"
    with pytest.raises(SourceError, match="no UEFI loader"):
        plan_of(folder, firmware="uefi")


def test_older_32_bit_releases_start_in_bios_mode_only(tmp_path: Path) -> None:
    plan = plan_of(release(tmp_path / "old", build=7601, architectures=("x86",), loaders={}))
    assert row(plan, "UEFI 32-bit")[1].endswith("32-bit releases of this age start in BIOS mode only")
    assert row(plan, "BIOS")[0] == "starts"


def test_two_architectures_on_one_disc(tmp_path: Path) -> None:
    """Both folders' images are listed, and both are split."""
    folder = release(tmp_path / "both", build=19045, architectures=("x64", "x86"))
    source = open_source(folder)
    there, words = editions_of(source), words_of(source)
    assert len(set(words)) == len(there) > 1
    assert [chosen_edition(source, word) for word in words] == there
    plan = plan_of(folder, part_size=1 << 20, file_system="fat32")  # type: ignore[arg-type]
    assert {name: row(plan, name)[0] for name in ("UEFI 64-bit", "UEFI 32-bit", "UEFI ARM64")} == {
        "UEFI 64-bit": "starts",
        "UEFI 32-bit": "starts",
        "UEFI ARM64": "will not start",
    }
    pair = plan_of(folder, file_system="fat32+ntfs")
    starter = pair.volumes[1].wish.tree
    assert all(starter.find_file(f"{each}/sources/boot.wim") for each in ("x64", "x86"))


def test_loaders_of_the_generation_that_is_asked_for(shop: Shop, tmp_path: Path) -> None:
    """From the setup environment where the disc has others; with what belongs beside them; else refused."""
    older = shop.sign(uefi_loader("x64"), generation(shop, "Microsoft Windows Production PCA 2011"))
    newer = shop.sign(uefi_loader("x64"), generation(shop, "Windows UEFI CA 2023"))
    carried = {
        "Windows/Boot/EFI_EX/bootmgfw_EX.efi": newer,
        "Windows/Boot/EFI_EX/bootmgr_EX.efi": b"the manager for UEFI",
        "Windows/Boot/Fonts_EX/wharf_boot_EX.ttf": b"a newer font",
    }
    folder = release(tmp_path / "both", build=26100, loaders={"x64": older}, in_setup=carried)
    (folder / "bootmgr.efi").write_bytes(b"an older one")
    as_it_is, asked = plan_of(folder), plan_of(folder, loader_signing="2023")
    assert bytes_at(as_it_is, "efi/boot/bootx64.efi") == older
    assert bytes_at(asked, "efi/boot/bootx64.efi") == newer
    assert bytes_at(asked, "bootmgr.efi") == b"the manager for UEFI"
    assert bytes_at(asked, "efi/microsoft/boot/fonts/wharf_boot.ttf") == b"a newer font"
    assert bytes_at(plan_of(folder, loader_signing="2011"), "efi/boot/bootx64.efi") == older
    for name, plan in (("2011", as_it_is), ("2023", asked)):
        authority = {"2011": "Microsoft Windows Production PCA 2011", "2023": "Windows UEFI CA 2023"}[name]
        for trusted, starts in ((authority, True), ("Tidewell Authority", False)):
            machine = Machine(shop.database(trusted))
            told = make_plan(plan.source, plan.choices, plan.drive, machine=machine)
            assert (row(told, "UEFI 64-bit, Secure Boot")[0] == "starts") is starts
    without = release(tmp_path / "older", build=19045, loaders={"x64": older})
    with pytest.raises(SourceError, match=r"carries no loaders of that generation .*EFI_EX"):
        plan_of(without, loader_signing="2023")
    wrong = release(
        tmp_path / "wrong",
        build=26100,
        loaders={"x64": older},
        in_setup={**carried, "Windows/Boot/EFI_EX/bootmgfw_EX.efi": older},
    )
    with pytest.raises(SourceError, match="not signed so"):
        plan_of(wrong, loader_signing="2023")
