"""Machines: facts as a kernel shows them, files written by hand, what releases ask for, and what starts where."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucky_keystone.common.errors import UsageError
from lucky_keystone.common.outputs import Replacing
from lucky_keystone.machine.facts import MachineFacts, blank, read_machine, save_machine
from lucky_keystone.machine.linux import LinuxMachine
from lucky_keystone.machine.outlook import outlook_for
from lucky_keystone.machine.requirements import requirements
from lucky_keystone.starting.outlook import Outlook

from ..helpers.program import run, run_json

GLOBAL, SECURITY = "8be4df61-93ca-11d2-aa0d-00e098032b8c", "d719b2cb-3d3a-4596-a3bc-dad00e67656f"
ATTRIBUTES = b"\x06\0\0\0"
X64 = "model name\t: Ferry 9\nflags\t\t: fpu lm sse4_2 popcnt\nmodel name\t: Ferry 9\n"


def computer(root: Path, files: dict[str, str | bytes]) -> Path:
    for path, data in files.items():
        place = root / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(data if isinstance(data, bytes) else data.encode())
    return root


def efi(width: str, **variables: bytes) -> dict[str, str | bytes]:
    """What a kernel shows of UEFI firmware; variables stand behind four bytes of attributes."""
    named = {"db": SECURITY, "dbx": SECURITY}
    found: dict[str, str | bytes] = {
        f"sys/firmware/efi/efivars/{name}-{named.get(name, GLOBAL)}": ATTRIBUTES + data
        for name, data in {"BootCurrent": b"\0\0", **variables}.items()
    }
    return {**found, **({"sys/firmware/efi/fw_platform_size": width + "\n"} if width else {})}


BASE: dict[str, str | bytes] = {
    "proc/cpuinfo": X64,
    "proc/meminfo": "MemTotal:        8056832 kB\nMemFree: 1 kB\n",
    "sys/block/sda/size": "500118192\n",
    "sys/block/sda/removable": "0\n",
    "sys/block/sdb/size": "900118192\n",
    "sys/block/sdb/removable": "1\n",
    "sys/block/loop0/size": "99990118192\n",
    "sys/block/loop0/removable": "0\n",
}
COMPUTERS: dict[str, tuple[dict[str, str | bytes], str, dict[str, object]]] = {
    "started by BIOS": (
        BASE,
        "x86_64",
        {"started_by": "bios", "bios": "yes", "uefi": None, "secure_boot": None, "architecture": "x64"},
    ),
    "UEFI, Secure Boot on": (
        {**BASE, **efi("64", SecureBoot=b"\1", SetupMode=b"\0", db=b"lists", dbx=b"more"),
         "sys/class/tpm/tpm0/tpm_version_major": "2\n"},
        "x86_64",
        {"started_by": "uefi", "uefi": "yes", "bios": None, "uefi_width": 64, "secure_boot": "on",
         "security_module": "2.0"},
    ),
    "UEFI, off is not setup mode": (
        {**BASE, **efi("64", SecureBoot=b"\0", SetupMode=b"\0")}, "x86_64", {"secure_boot": "off"}
    ),
    "UEFI, setup mode": ({**BASE, **efi("64", SecureBoot=b"\0", SetupMode=b"\1")}, "x86_64",
                         {"secure_boot": "setup mode"}),
    "UEFI without Secure Boot": ({**BASE, **efi("64")}, "x86_64", {"secure_boot": "none"}),
    "32-bit UEFI, 64-bit kernel": (
        {**BASE, **efi("32", SecureBoot=b"\0", SetupMode=b"\0")}, "x86_64", {"uefi_width": 32, "architecture": "x64"}
    ),
    "an old kernel": ({**BASE, **efi("", SecureBoot=b"\1")}, "x86_64", {"uefi_width": None, "secure_boot": "on"}),
    "32-bit system on a 64-bit processor": (BASE, "i686", {"architecture": "x64"}),
    "ARM64": (
        {"proc/cpuinfo": "Features : fp asimd\n", **efi("64")},
        "aarch64",
        {"architecture": "arm64", "popcnt": None, "bios": None, "memory": None, "storage": None},
    ),
    "nothing to be seen": ({}, "riscv64", {"architecture": None, "started_by": None, "bios": None}),
}  # fmt: skip


@pytest.mark.parametrize("name", COMPUTERS)
def test_facts_are_what_the_kernel_shows_and_no_more(name: str, tmp_path: Path) -> None:
    files, processor, expected = COMPUTERS[name]
    machine = LinuxMachine(computer(tmp_path, files), processor)
    facts = machine.facts()
    assert {key: getattr(facts, key) for key in expected} == expected
    if "proc/meminfo" in files:
        assert (facts.memory, facts.storage) == (8056832 << 10, 500118192 * 512)
        assert (facts.popcnt, facts.sse4_2, facts.processor) == ("yes", "yes", "Ferry 9")
    assert machine.database("db") == (b"lists" if "dbx" in str(files) else b"")


WORDS = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=12)
SIZES = st.sampled_from([None, 512 << 20, 4 << 30, 256 << 30])


@given(
    name=WORDS,
    bios=st.sampled_from([None, "yes", "no"]),
    width=st.sampled_from([None, 32, 64]),
    secure=st.sampled_from([None, "on", "off", "setup mode", "none"]),
    trusts=st.lists(WORDS.filter(bool), max_size=2).map(tuple),
    memory=SIZES,
)
def test_a_saved_machine_is_read_as_it_was(
    name: str, bios: str | None, width: int | None, secure: str | None, trusts: tuple[str, ...], memory: int | None,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:  # fmt: skip
    facts = MachineFacts(
        name=name, bios=bios, uefi_width=width, secure_boot=secure, trusts=trusts, memory=memory  # type: ignore[arg-type]
    )  # fmt: skip
    path = tmp_path_factory.mktemp("machine") / "one.toml"
    save_machine(facts, path, Replacing())
    assert read_machine(path) == facts


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "'machine = 1' is missing"),
        ("machine = 2\n", "'machine = 1' is missing"),
        ("machine = 1\n\nmemroy = 4\n", "line 3: there is no key 'memroy'"),
        ("machine = 1\nuefi_width = 16\n", "uefi_width"),
        ("machine = 1\nbios = true\n", "bios"),
        ("machine = [\n", "is not TOML"),
        ("machine = 1\nmemory = 'much'\n", "much"),
    ],
)
def test_a_file_written_by_hand_is_refused_by_line_and_key(text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "hand.toml"
    path.write_text(text)
    with pytest.raises(UsageError) as raised:
        read_machine(path)
    assert words in raised.value.message


def test_the_blank_file_is_read_and_every_key_in_it_too(tmp_path: Path) -> None:
    path = tmp_path / "blank.toml"
    path.write_text(blank(), encoding="utf-8")
    assert read_machine(path) == MachineFacts()
    path.write_text(re.sub(r"^# (?=\w+ = )", "", blank(), flags=re.MULTILINE), encoding="utf-8")
    filled = read_machine(path)
    assert [key for key in filled.__struct_fields__ if getattr(filled, key) in (None, "", ())] == []


ROWS = (
    Outlook("BIOS", "starts", "b", kind="bios"),
    Outlook("UEFI 64-bit", "starts", "u", kind="uefi", architecture="x64"),
    Outlook(
        "UEFI 64-bit, Secure Boot",
        "will not start",
        "s",
        refines="UEFI 64-bit",
        kind="uefi",
        architecture="x64",
        secure_boot=True,
    ),
    Outlook("UEFI 32-bit", "will not start", "w", kind="uefi", architecture="x86"),
    Outlook("UEFI ARM64", "not known", "a", kind="uefi", architecture="arm64"),
    Outlook("Mac, Intel", "starts", "m", kind="mac", architecture="x64"),
)
PC = MachineFacts(architecture="x64", uefi="yes", bios="no", uefi_width=64)


@pytest.mark.parametrize(
    ("facts", "verdict", "by"),
    [
        (msgspec.structs.replace(PC, secure_boot="off"), "starts", "UEFI 64-bit"),
        (msgspec.structs.replace(PC, secure_boot="setup mode"), "starts", "UEFI 64-bit"),
        (msgspec.structs.replace(PC, secure_boot="on"), "will not start", "UEFI 64-bit, Secure Boot"),
        (PC, "not known", "UEFI 64-bit"),
        (msgspec.structs.replace(PC, secure_boot="on", bios="yes"), "starts", "BIOS"),
        (msgspec.structs.replace(PC, secure_boot="off", uefi_width=32), "will not start", "UEFI 32-bit"),
        (MachineFacts(architecture="x64", bios="yes"), "starts", "BIOS"),
        (MachineFacts(architecture="x64", bios="no", uefi="no"), "not known", ""),
        (MachineFacts(architecture="arm64", uefi="yes", uefi_width=64, secure_boot="off"), "not known", "UEFI ARM64"),
        (MachineFacts(model="TidewellBook7,2"), "starts", "Mac, Intel"),
        (MachineFacts(model="TidewellBook9,1", architecture="arm64"), "will not start", ""),
    ],
)
def test_of_the_forecast_those_rows_count_that_the_machine_is(facts: MachineFacts, verdict: str, by: str) -> None:
    found = outlook_for(facts, ROWS)
    assert (found.verdict, found.by) == (verdict, by)


def test_what_a_release_asks_for_stands_beside_what_the_machine_has() -> None:
    small = MachineFacts(security_module="1.2", secure_boot="off", memory=(4 << 30) - (300 << 20), storage=32 << 30,
                         popcnt="no")  # fmt: skip
    asked = {each.name: (each.met, each.waiver) for each in requirements(26100, "Client", small)}
    assert asked == {
        "TPM": ("not met", "tpm"),
        "Secure Boot": ("met", "secure-boot"),
        "memory": ("met", "memory"),  # the system's own figure is some percent less than what is built in
        "storage": ("not met", "storage"),
        "POPCNT": ("not met", ""),
        "SSE4.2": ("not known", ""),
    }
    assert requirements(26100, "Server", small) == requirements(26100, "Server Core", small) == ()
    assert requirements(19045, "Client", small) == ()
    assert "POPCNT" not in {each.name for each in requirements(22631, "Client", small)}


def test_the_program_says_where_a_drive_starts(disc: Path, tmp_path: Path) -> None:
    here = run_json("machine", "--for", disc, "--save", tmp_path / "here.toml", "--name", "Bench")
    assert here["facts"]["name"] == "Bench"
    assert {each["name"] for each in here["requirements"]} >= {"TPM", "memory"}
    assert run("machine", "--blank").stdout == blank()
    (tmp_path / "counter.toml").write_text(
        'machine = 1\nname = "Counter 3"\nbios = "yes"\nuefi = "no"\nmemory = "2 GiB"\n'
    )
    words = ["--machine", tmp_path / "counter.toml", "--machine", tmp_path / "here.toml"]
    planned = run_json("plan", disc, *words)
    first = planned["on_machines"][0]
    assert (first["machine"], first["verdict"], first["by"]) == ("Counter 3", "starts", "BIOS")
    short = {each["requirement"]["name"]: each["is_waived"] for each in planned["shortfalls"]}
    assert (short["memory"], short["Secure Boot"]) == (True, True)
    assert "Counter 3: memory 2 GiB (setup asks for: 4 GiB); the check is waived" in run("plan", disc, *words).stdout
    run("build", disc, "--onto", tmp_path / "drive.img", *words)
    checked = run_json("check", tmp_path / "drive.img", *words)
    assert [row["machine"] for row in checked["on_machines"]] == ["Counter 3", "Bench"]
    assert "On your machines" in run("check", tmp_path / "drive.img", *words).stdout
