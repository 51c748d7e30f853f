"""Hives and boot stores, read by two independent parsers: what is made, and that an edit changes its value alone."""

from __future__ import annotations

import random
from collections.abc import Iterable
from pathlib import Path
from uuid import UUID

import pytest
from regipy.registry import RegistryHive

from lucky_keystone.hive.edit import HiveEditor
from lucky_keystone.hive.make import NewKey, make_hive
from lucky_keystone.hive.read import Hive, HiveError, Key
from lucky_keystone.hive.records import DWORD, MULTI_SZ, SZ
from lucky_keystone.starting.boot_store import PartitionName, named_partition, read_systems
from lucky_keystone.starting.store_making import WantedStore, make_store

from ..helpers.hives import Keys, by_libregf, hive_of, names_by_regipy, short

NAMES = ["Select", "ControlSet001", "a", "A1", "partmgr", "Services", "x" * 60, "Überfahrt", "Čekárna", "Żuraw", "潮汐"]


def some_keys(chance: random.Random, depth: int = 0) -> Keys:
    """Return a tree of keys, with values in every form and of every length that is stored another way."""
    sizes = (0, 1, 4, 5, 40, 400, 16344, 20000, 40000)  # not 16345: libregf drops the byte in the second segment

    def value() -> tuple[int, bytes]:
        if chance.random() < 0.3:
            return SZ, f"ferry {chance.random()}\0".encode("utf-16-le")
        return 3, chance.randbytes(chance.choice(sizes))

    values = {name: value() for name in chance.sample(NAMES, chance.randrange(4))}
    count = chance.choice((0, 1, 5, 300)) if depth < 1 else chance.randrange(3) if depth < 4 else 0
    names = chance.sample(NAMES, min(count, 8)) + [f"Key{number:03}" for number in range(count - 8)]
    return Keys(values, {name: some_keys(chance, depth + 1) if len(name) != 6 else Keys() for name in names})


def ours(data: bytes) -> dict[str, dict[str, tuple[int, bytes]]]:
    hive = Hive(data, "it")

    def of(key: Key) -> dict[str, tuple[int, bytes]]:
        return {value.name: (value.type, value.data) for value in key.values()}

    return {"": of(hive.root), **{path: of(key) for path, key in hive.walk()}}


def shortened(found: dict[str, dict[str, tuple[int, bytes]]]) -> dict[str, dict[str, tuple[int, bytes]]]:
    return {path: {name: (kind, short(data)) for name, (kind, data) in key.items()} for path, key in found.items()}


def latin_unread(paths: Iterable[str]) -> list[str]:
    """Return paths as regipy tells them: it reads names in Latin-1 as if they were in ASCII."""
    return sorted(path.replace("Ü", "\ufffd") for path in paths if path)


def expected(root: Keys, path: str = "") -> dict[str, dict[str, tuple[int, bytes]]]:
    found = {path: dict(root.values)}
    for name, key in root.below.items():
        found |= expected(key, f"{path}\\{name}".strip("\\"))
    return found


def made_of(root: Keys) -> NewKey:
    short = {name: (kind, data[:16344]) for name, (kind, data) in root.values.items()}
    return NewKey(short, {name: made_of(key) for name, key in root.below.items()})


@pytest.mark.parametrize("seed", range(12))
def test_hives_are_made_and_read_as_others_read_them(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    root = some_keys(chance)
    made = make_hive(made_of(root), "Tidewell", minor=chance.choice((3, 5)), time=133_800_000_000_000_000)
    awkward = hive_of(root, chance, behind=seed % 3 * 512)
    for data in (made, awkward):
        file = tmp_path / "hive"
        file.write_bytes(data)
        found = ours(data)
        assert by_libregf(str(file)) == shortened(found)
        assert latin_unread(names_by_regipy(str(file))) == latin_unread(found)
    assert ours(awkward) == expected(root)
    assert ours(made).keys() == expected(root).keys()


@pytest.mark.parametrize("seed", range(40))
def test_an_edit_changes_its_value_and_nothing_else(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    root = some_keys(chance)
    before = hive_of(root, chance, dirty=seed % 2 == 1, behind=seed % 3 * 4096)
    wanted = expected(root)
    editor = HiveEditor(before, "it")
    for _ in range(chance.randrange(1, 5)):
        path = chance.choice(sorted(wanted))
        if chance.random() < 0.5:
            path = f"{path}\\{chance.choice((*NAMES, 'Parameters'))}".strip("\\")
        named = wanted.setdefault(path, {})
        name = chance.choice(["PortableOperatingSystem", *named])
        number = chance.randrange(1 << 32)
        editor.set_number(path, name, number)
        named[name] = (DWORD, number.to_bytes(4, "little"))
    after = editor.finished()
    file = tmp_path / "hive"
    file.write_bytes(after)
    assert ours(after) == wanted
    assert by_libregf(str(file)) == shortened(wanted)
    assert latin_unread(names_by_regipy(str(file))) == latin_unread(wanted)
    assert not Hive(after, "it").is_dirty


@pytest.mark.parametrize("is_gpt", [False, True])
@pytest.mark.parametrize("firmware", ["bios", "uefi"])
def test_a_store_names_its_partition_for_other_readers_too(firmware: str, is_gpt: bool, tmp_path: Path) -> None:
    disk, partition = UUID("6f6b3d55-9a53-4a43-8a9e-0a3a0b1c2d3e"), UUID("11223344-5566-4788-99aa-bbccddeeff00")
    system = PartitionName(0, 0, disk, partition) if is_gpt else PartitionName(0x7EA51DE5, 1 << 40 | 1 << 20)
    start = PartitionName(0, 0, disk, disk) if is_gpt else PartitionName(0x7EA51DE5, 3 << 30)
    store = make_store(
        WantedStore(
            firmware=firmware,
            loader=UUID(int=5 << 96 | 1),
            resume=UUID(int=6 << 96 | 1),
            description="Tidewell Crew",
            language="de-DE",
            timeout=5,
            system=system,
            start=start,
            has_resume=True,
            has_memory_test=firmware == "bios",
            time=133_800_000_000_000_000,
        )
    )
    file = tmp_path / "BCD"
    file.write_bytes(store)
    assert by_libregf(str(file)) == shortened(ours(store))
    (found,) = read_systems(Hive(store, "it"))
    assert (found.description, found.is_default, found.partitions) == ("Tidewell Crew", True, [system])
    # By an independent parser: the default object, its loader, and where its device element leads.
    hive = RegistryHive(str(file))
    manager = "\\Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\\Elements"
    default = hive.get_key(f"{manager}\\23000003").get_value("Element")
    loader = hive.get_key(f"\\Objects\\{default}\\Elements")
    ending = "exe" if firmware == "bios" else "efi"
    assert loader.get_subkey("12000002").get_value("Element") == f"\\windows\\system32\\winload.{ending}"
    assert hive.get_key(f"{manager}\\24000001").get_value("Element") == [default]
    assert bytes(hive.get_key(f"{manager}\\25000004").get_value("Element")) == (5).to_bytes(8, "little")
    assert {v.name: v.value_type for v in hive.get_key("\\Description").get_values()} == {
        "KeyName": "REG_SZ",
        "System": "REG_DWORD",
        "TreatAsSystem": "REG_DWORD",
    }
    element = bytes(loader.get_subkey("11000001").get_value("Element"))
    assert element == bytes(loader.get_subkey("21000001").get_value("Element"))
    assert (len(element), element[16], int.from_bytes(element[24:28], "little")) == (88, 6, 72)
    if is_gpt:
        assert (element[32:48], element[52], element[56:72]) == (partition.bytes_le, 0, disk.bytes_le)
    else:
        assert int.from_bytes(element[32:40], "little") == 1 << 40 | 1 << 20
        assert (element[52], element[56:60]) == (1, bytes.fromhex("e51da57e"))
    assert named_partition(element) == system
    # What is inherited has to be there.
    objects = {key.name for key in hive.get_key("\\Objects").iter_subkeys()}
    for name in objects:
        elements = hive.get_key(f"\\Objects\\{name}\\Elements")
        for key in elements.iter_subkeys():
            if key.name[1] in "34":
                value = key.get_value("Element")
                assert set(value if isinstance(value, list) else [value]) <= objects


def test_a_damaged_hive_is_refused_with_its_place() -> None:
    data = bytearray(
        hive_of(Keys({"a": (SZ, b"b")}, {"Select": Keys({"Default": (4, b"\3\0\0\0")})}), random.Random(1))
    )
    with pytest.raises(HiveError, match="not a registry hive"):
        Hive(b"regf", "SYSTEM")
    data[100] ^= 1
    with pytest.raises(HiveError, match="byte 508: the checksum"):
        Hive(data, "SYSTEM")
    editor = HiveEditor(hive_of(Keys(), random.Random(2)), "SYSTEM")
    with pytest.raises(HiveError, match="has no key Services"):
        editor.set_number("Services\\partmgr", "SanPolicy", 4)
    assert MULTI_SZ == 7
