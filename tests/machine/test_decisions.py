"""What machines decide of a drive where nobody chose: what serves all of them, each with its reason."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices, given
from lucky_keystone.families.family import DriveShape
from lucky_keystone.machine.facts import MachineFacts
from lucky_keystone.machine.known import KnownMachine
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.starting.trust import Machine

from ..helpers.program import run, run_json
from ..helpers.releases import release
from ..helpers.signing import Shop, generation, shop

__all__ = ["shop"]
OLDER, NEWER = "Microsoft Windows Production PCA 2011", "Windows UEFI CA 2023"
FACTS = {
    "counter": MachineFacts(name="Counter 3", architecture="x64", bios="yes", uefi="no", memory=2 << 30),
    "seen by BIOS": MachineFacts(name="Counter 5", architecture="x64", bios="yes", started_by="bios"),
    "crew": MachineFacts(name="Crew 1", architecture="x64", bios="no", uefi="yes", uefi_width=64, secure_boot="off",
                         security_module="1.2"),
    "older": MachineFacts(name="Crew 2", architecture="x64", bios="no", uefi="yes", uefi_width=64, secure_boot="on"),
    "newer": MachineFacts(name="Crew 3", architecture="x64", bios="no", uefi="yes", uefi_width=64, secure_boot="on"),
    "both": MachineFacts(name="Crew 4", architecture="x64", bios="no", uefi="yes", uefi_width=64, secure_boot="on"),
    "gangway": MachineFacts(name="Gangway 1", architecture="x64", uefi="yes", uefi_width=32, secure_boot="off"),
}  # fmt: skip
TRUST = {"older": (OLDER,), "newer": (NEWER,), "both": (OLDER, NEWER)}
UEFI = {"table": "gpt", "firmware": "uefi"}
CASES: list[tuple[tuple[str, ...], dict[str, object], dict[str, object]]] = [
    ((), {}, {}),
    (("counter",), {}, {"table": "mbr", "firmware": "bios", "waive": "secure-boot,memory"}),
    (("seen by BIOS",), {}, {}),
    (("crew",), {}, {**UEFI, "waive": "tpm"}),
    (("counter", "crew"), {}, {"table": "mbr", "firmware": "both", "waive": "tpm,secure-boot,memory"}),
    (("counter", "crew"), {"waive": "none"}, {"table": "mbr", "firmware": "both"}),
    (("crew",), {"table": "mbr", "waive": "all"}, {}),
    (("older",), {}, UEFI),
    (("newer",), {}, {**UEFI, "loader_signing": "2023"}),
    (("newer",), {"loader_signing": "2011"}, UEFI),
    (("newer", "both"), {}, {**UEFI, "loader_signing": "2023"}),
    (("older", "newer"), {}, UEFI),  # none serves both: it stays as it is, and the rows say so
    (("gangway",), {}, {}),  # it may start by BIOS: a GPT would take that away
]


@pytest.fixture(scope="module")
def source(shop: Shop, tmp_path_factory: pytest.TempPathFactory) -> Source:
    """Loaders of the older generation, and those of the newer one in the setup environment."""
    for name in (OLDER, NEWER):
        generation(shop, name)
    carried = {
        "Windows/Boot/EFI_EX/bootmgfw_EX.efi": shop.sign(uefi_loader("x64"), NEWER),
        "Windows/Boot/EFI_EX/bootmgr_EX.efi": b"the manager for UEFI",
    }
    loaders = {"x64": shop.sign(uefi_loader("x64"), OLDER)}
    folder = tmp_path_factory.mktemp("release") / "both"
    return open_source(release(folder, build=26100, loaders=loaders, in_setup=carried))


@pytest.mark.parametrize(("names", "chosen", "decided"), CASES)
def test_what_serves_all_machines_is_decided(
    names: tuple[str, ...], chosen: dict[str, str], decided: dict[str, str], shop: Shop, source: Source
) -> None:
    machines = [
        KnownMachine(FACTS[name], Machine(shop.database(*TRUST[name]) if name in TRUST else None)) for name in names
    ]
    plan = make_plan(source, Choices(**chosen), DriveShape("x.img", None), machines=machines)
    by_machines = {each.choice: each for each in plan.decisions if each.by == "machines"}
    values = given(plan.choices)
    assert {name: values[name] for name in by_machines} == decided
    assert all(any(FACTS[name].name in each.reason for name in names) for each in by_machines.values())
    without = make_plan(source, plan.choices, DriveShape("x.img", None))
    assert (plan.areas, plan.forecast) == (without.areas, without.forecast)


def test_a_plan_keeps_what_machines_decided(disc: Path, tmp_path: Path) -> None:
    (tmp_path / "crew.toml").write_text(
        'machine = 1\nname = "Crew 1"\narchitecture = "x64"\nuefi = "yes"\nuefi_width = 64\nsecurity_module = "none"\n'
    )
    machine = ["--machine", tmp_path / "crew.toml"]
    shown = run("plan", disc, *machine, "--save", tmp_path / "plan.toml").stdout
    assert "the check is waived" in shown
    assert "the machines" in shown
    (tmp_path / "mac.toml").write_text('machine = 1\nmodel = "TidewellBook7,2"\n')
    both = ["--machine", tmp_path / "mac.toml", *machine]
    saved = run_json("build", tmp_path / "plan.toml", "--onto", tmp_path / "crew.img", *both, code=1)["plan"]
    assert (saved["choices"]["table"], saved["choices"]["waive"]) == ("gpt", "tpm")
