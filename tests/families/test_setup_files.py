"""What setup reads from the drive: waivers and answer files, the list of editions, driver packages."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import pytest

from lucky_keystone.content.contents import seekable
from lucky_keystone.content.tree import Folder
from lucky_keystone.setup.answer_file import check_answer_file, commands_of, made_answer_file
from lucky_keystone.setup.waivers import WAIVERS

from ..helpers.drives import files_on
from ..helpers.program import run, run_json
from ..helpers.releases import release

SPACE = "{urn:schemas-microsoft-com:unattend}"
ACTION = "{http://schemas.microsoft.com/WMIConfig/2002/State}action"
HEAD = (
    '<?xml version="1.0" encoding="utf-8"?>\n'
    '<unattend xmlns="urn:schemas-microsoft-com:unattend" xmlns:wcm="http://schemas.microsoft.com/WMIConfig/2002/State">\n'
)
COMPONENT = (
    '<component name="Microsoft-Windows-{}" processorArchitecture="{}" publicKeyToken="31bf3856ad364e35"'
    ' language="neutral" versionScope="nonSxS">'
)


def answer(body: str = "", *, name: str = "Setup", processor: str = "amd64", during: str = "windowsPE") -> str:
    component = COMPONENT.format(name, processor)
    return f'{HEAD}<settings pass="{during}">\n{component}{body}</component></settings>\n</unattend>\n'


def command(order: int, path: str) -> str:
    return f'<RunSynchronousCommand wcm:action="add"><Order>{order}</Order><Path>{path}</Path></RunSynchronousCommand>'


def assert_published_structure(data: bytes, processors: set[str]) -> dict[str, list[str]]:
    """Namespace on every element, pass, component, order of commands: by the published description, literally."""
    root = ElementTree.fromstring(data)
    assert root.tag == SPACE + "unattend"
    assert all(element.tag.startswith(SPACE) for element in root.iter())
    found = {}
    (settings,) = (each for each in root if each.get("pass") == "windowsPE")
    for component in settings:
        assert component.tag == SPACE + "component"
        assert component.get("publicKeyToken") == "31bf3856ad364e35"
        assert (component.get("language"), component.get("versionScope")) == ("neutral", "nonSxS")
        if component.get("name") != "Microsoft-Windows-Setup":
            continue
        commands = component.findall(f"{SPACE}RunSynchronous/{SPACE}RunSynchronousCommand")
        assert [int(each.findtext(SPACE + "Order") or 0) for each in commands] == list(range(1, len(commands) + 1))
        assert all(each.get(ACTION) == "add" for each in commands)
        paths = [each.findtext(SPACE + "Path") or "" for each in commands]
        assert all(0 < len(path) <= 259 for path in paths)
        found[component.get("processorArchitecture") or ""] = paths
    assert found.keys() == processors
    return found


@pytest.fixture(scope="module")
def client(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return release(tmp_path_factory.mktemp("client"), build=26100, method="none")


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return release(tmp_path_factory.mktemp("both"), build=22621, architectures=("x64", "x86"), method="none")


def built(source: Path, folder: Path, *choices: object) -> dict[tuple[int, str], bytes]:
    run("build", source, "--onto", folder / "drive.img", "--size", "400MiB", *choices)
    return files_on(folder / "drive.img")


@pytest.mark.parametrize("wanted", ["tpm", "memory,storage", "all"])
def test_only_what_is_waived_is_set(wanted: str, client: Path, tmp_path: Path) -> None:
    files = built(client, tmp_path, "--waive", wanted, "--file-system", "fat32+ntfs")
    copies = {place: data for place, data in files.items() if place[1].endswith("autounattend.xml")}
    assert set(copies) == {
        (number, path) for number in (1, 2) for path in ("autounattend.xml", "sources/autounattend.xml")
    }
    (data,) = set(copies.values())
    names = [each for each in WAIVERS if wanted == "all" or each.name in wanted.split(",")]
    (commands,) = assert_published_structure(data, {"amd64"}).values()
    assert [path.split(" /v ")[1] for path in commands] == [f"{each.value} /t REG_DWORD /d 1 /f" for each in names]
    checked = run_json("check", tmp_path / "drive.img")
    (told,) = [each["what"] for each in checked["findings"] if each["code"] == "setup.answered"]
    assert told.endswith(f"waives hardware checks: {', '.join(each.shown for each in names)}.")
    assert not run_json("check", tmp_path / "drive.img", "--against", client)["findings"][1:]


def test_two_architectures_have_a_component_each(both: Path, tmp_path: Path) -> None:
    files = built(both, tmp_path, "--waive", "tpm", "--ask-edition")
    assert_published_structure(files[1, "autounattend.xml"], {"amd64", "x86"})
    assert {path for _, path in files if path.endswith(("ei.cfg", "autounattend.xml"))} == {
        "autounattend.xml",
        *(f"{each}/sources/{name}" for each in ("x64", "x86") for name in ("ei.cfg", "autounattend.xml")),
    }


def test_waivers_are_refused_where_they_do_nothing(client: Path, tmp_path: Path) -> None:
    older = release(tmp_path / "older", build=19045, method="none")
    assert "they begin with build 22000" in run("plan", older, "--waive", "tpm", code=2).stderr
    server = release(tmp_path / "server", build=26100, method="none", installation="Server")
    assert "server editions" in run("plan", server, "--waive", "tpm", code=2).stderr
    assert "Did you mean tpm?" in run("plan", client, "--waive", "tmp", code=2).stderr
    own = release(tmp_path / "own", build=26100, method="none")
    (own / "sources/AutoUnattend.xml").write_text(answer())
    assert "answer file of its own, sources/autounattend.xml" in run("plan", own, "--waive", "all", code=2).stderr
    assert "answer file of its own" in run("plan", own, "--answer-file", own / "setup.exe", code=2).stderr
    (own / "sources/ei.cfg").write_text("[Channel]\nVolume\n")
    assert "its own sources/ei.cfg" in run("plan", own, "--ask-edition", code=2).stderr


def test_a_given_answer_file_goes_onto_the_drive_as_it_is_or_with_waivers(client: Path, tmp_path: Path) -> None:
    file = tmp_path / "ours.xml"
    international = COMPONENT.format("International-Core-WinPE", "amd64") + "<UILanguage>en-GB</UILanguage></component>"
    mine = command(1, "cmd /c echo Tidewell") + command(
        2, "reg add HKLM\\SYSTEM\\Setup\\LabConfig /v BypassTPMCheck /t REG_DWORD /d 1 /f"
    )
    text = answer(f"<!-- the workshop's --><RunSynchronous>{mine}</RunSynchronous>")
    text = text.replace("<unattend", "<!-- by the workshop -->\n<unattend")
    file.write_text(text.replace("</component></settings>", f"</component>{international}</settings>"))
    (tmp_path / "a").mkdir()
    assert built(client, tmp_path / "a", "--answer-file", file)[1, "autounattend.xml"] == file.read_bytes()
    (tmp_path / "b").mkdir()
    merged = built(client, tmp_path / "b", "--answer-file", file, "--waive", "tpm,memory")[1, "autounattend.xml"]
    (commands,) = assert_published_structure(merged, {"amd64"}).values()
    assert len(commands) == 3
    assert commands[0] == "cmd /c echo Tidewell"
    assert "BypassRAMCheck" in commands[2]
    assert b"the workshop's" in merged
    assert b"by the workshop" in merged
    assert b"en-GB" in merged
    assert (tmp_path / "a/drive.img").read_bytes() != (tmp_path / "b/drive.img").read_bytes()
    run(
        "plan",
        client,
        "--answer-file",
        file,
        "--waive",
        "tpm,memory",
        "--size",
        "400MiB",
        "--save",
        tmp_path / "plan.toml",
    )
    run("build", tmp_path / "plan.toml", "--onto", tmp_path / "drive.img", "--identity", "drive.img")
    assert (tmp_path / "drive.img").read_bytes() == (tmp_path / "b/drive.img").read_bytes()


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (answer()[:-12], "line 5: it is not well-formed"),
        (answer().replace('unattend"', 'unatend"'), "its root is not 'unattend' of the namespace"),
        (answer("<a xmlns='urn:other'/>"), "line 4: 'a' is not of the namespace"),
        (answer(during="windowsPe"), "line 3: there is no pass 'windowsPe'"),
        (answer(processor="x64"), "there is no processorArchitecture 'x64'; write amd64"),
        (answer(processor="arm64"), "its components are for arm64, the setup environment is amd64"),
        (answer().replace("nonSxS", "SxS"), 'needs versionScope="nonSxS"'),
        (answer(command(1, "a") + command(1, "b")), "Order '1' is missing, no number, or there twice"),
        (answer(command(1, "a" * 260)), "a command has 260 characters"),
        (answer().replace("utf-8", "utf-16"), "it is not well-formed"),
        ("<!DOCTYPE x [<!ENTITY a 'b'>]>" + answer()[39:], "holds declarations"),
        ("<a>" * 60 + "</a>" * 60, "nested too deeply"),
    ],
)
def test_answer_files_that_setup_would_pass_over(text: str, why: str, client: Path, tmp_path: Path) -> None:
    (tmp_path / "a.xml").write_text(text)
    assert why in " ".join(run("plan", client, "--answer-file", tmp_path / "a.xml", code=2).stderr.split())


def test_encodings_of_answer_files() -> None:
    for encoding, declared in (("utf-8-sig", "utf-8"), ("utf-16", "utf-16"), ("cp1252", "windows-1252")):
        data = answer("<!-- Fähre -->").replace("utf-8", declared).encode(encoding)
        assert check_answer_file(data, "a.xml", ["x64"]) == ()
        assert commands_of(made_answer_file(["x86"], ["a", "b"])) == ("a", "b")


INF = '[Version]\nSignature="$Windows NT$"\nClass={}\nCatalogFile={}\n[Manufacturer]\n%T%=Gull{}\n'


@pytest.fixture
def driver_folder(tmp_path: Path) -> Iterator[Path]:
    folder = tmp_path / "tickets"
    for name, kind, catalog, decorations, sections in (
        ("net", "Net", "net.cat", ", \\\n  NTamd64.10.0", "[Gull.NTamd64.10.0]\nx=y"),
        ("arm", "Net", "arm.cat", ",NTarm64", "[Gull.NTarm64]\nx=y"),
        ("old", "Ports", "old.cat", "", "[Gull]\nx=y ; comment"),
        ("bare", "Printer", "", ",NTamd64", "[Gull.NTamd64]\nx=y"),
    ):
        (folder / name).mkdir(parents=True)
        encoding = "utf-16" if name == "net" else "cp1252"
        (folder / name / f"{name}.inf").write_text(
            INF.format(kind, catalog, decorations) + sections, encoding=encoding, newline="\r\n"
        )
        (folder / name / f"{name}.cat").write_bytes(b"signed")
    (folder / "notes.inf").write_text("not a package")
    yield folder


def test_drivers(client: Path, driver_folder: Path, tmp_path: Path) -> None:
    """On both volumes of a pair; what does not fit is told, and nothing of it is hidden."""
    files = built(client, tmp_path, "--drivers", driver_folder, "--file-system", "fat32+ntfs")
    for path in driver_folder.rglob("*.*"):
        for number in (1, 2):
            below = path.relative_to(driver_folder).as_posix()
            assert files[number, f"$WinPEDriver$/tickets/{below}"] == path.read_bytes()
    plan = run_json("plan", client, "--drivers", driver_folder)
    (told,) = [each for each in plan["decisions"] if each["topic"] == "drivers"]
    assert told["value"] == f"{driver_folder}: 2 packages (Net, Printer) into $WinPEDriver$"
    for words in (
        "bare/bare.inf: it is not signed",
        "arm/arm.inf is for arm64",
        "old/old.inf is for x86",
        "notes.inf: it has no",
    ):
        assert words in told["reason"]
    for name, why in (("arm", "its packages are for arm64, the source is x64"), ("empty", "no .inf file is in it")):
        (driver_folder / "empty").mkdir(exist_ok=True)
        assert why in run("plan", client, "--drivers", driver_folder / name, code=4).stderr


def test_only_installers_of_windows_have_a_setup(tmp_path: Path) -> None:
    image = tmp_path / "raw.img"
    entry = bytes([0x80, 0, 2, 0, 0x0C, 0, 3, 0, 1, 0, 0, 0, 100, 0, 0, 0])
    image.write_bytes(bytes(446) + entry + bytes(48) + b"\x55\xaa" + bytes(1 << 20))
    assert "it has no effect on this kind of drive" in run("plan", image, "--drivers", tmp_path, code=2).stderr


def test_a_tree_is_shared(client: Path) -> None:
    """What was laid over a source does not change the source's own tree."""
    from lucky_keystone.families.choices import Choices
    from lucky_keystone.families.windows.prepared import prepared
    from lucky_keystone.sources.opening import open_source

    source = open_source(client)
    before = {path: file.size for path, file in source.root.files()}
    made = prepared(source, Choices(waive="all", ask_edition=True))
    assert {path: file.size for path, file in source.root.files()} == before
    assert set(made.laid_over) == {"autounattend.xml", "sources/autounattend.xml", "sources/ei.cfg"}
    assert isinstance(made.root, Folder)
    assert seekable(made.root.find_file("sources/ei.cfg").content).read_at(0, 11) == b"[EditionID]"  # type: ignore[union-attr]
