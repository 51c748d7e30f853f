"""Answer files of Windows setup: made, checked, and further commands put into them.

By the vendor's published schema "Windows Unattend": the elements' namespace, passes, the component
Microsoft-Windows-Setup, RunSynchronous with its commands.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from xml.etree import ElementTree
from xml.parsers import expat

from msgspec import Struct

from ..common.errors import UsageError

NAME = "autounattend.xml"
"""Under which setup looks for it: in the root of its drive, and in `sources`."""
LARGEST = 1 << 20
NAMESPACE = "urn:schemas-microsoft-com:unattend"
_ACTIONS = "http://schemas.microsoft.com/WMIConfig/2002/State"
_WINDOWS_PE = "windowsPE"
_PASSES = (
    *(_WINDOWS_PE, "offlineServicing", "generalize", "specialize"),
    *("auditSystem", "auditUser", "oobeSystem"),
)
_SETUP = "Microsoft-Windows-Setup"
_IDENTITY = {"publicKeyToken": "31bf3856ad364e35", "language": "neutral", "versionScope": "nonSxS"}
PROCESSORS = {"x64": "amd64", "x86": "x86", "arm64": "arm64"}
"""How answer files write an architecture."""
_LONGEST_PATH = 259
_MOST_DEPTH = 40
_ADVICE = "Correct the answer file, or leave --answer-file out."


class _Start(Struct, frozen=True):
    """An element's start, with where it stands."""

    line: int
    path: tuple[str, ...]
    """Names of the elements around it and its own, without namespaces."""
    namespace: str
    attributes: dict[str, str]


def made_answer_file(architectures: Sequence[str], commands: Sequence[str]) -> bytes:
    """Return an answer file that runs `commands` in the first pass, for setup environments of these architectures."""
    root = ElementTree.Element(_tag("unattend"))
    settings = ElementTree.SubElement(root, _tag("settings"), {"pass": _WINDOWS_PE})
    for architecture in architectures:
        component = _new_component(settings, architecture)
        _append(component, commands)
        # Some media stop where no product key is named at all. Not proven here.
        key = ElementTree.SubElement(ElementTree.SubElement(component, _tag("UserData")), _tag("ProductKey"))
        ElementTree.SubElement(key, _tag("Key"))
    return _text(root)


def with_commands(data: bytes, architectures: Sequence[str], commands: Sequence[str]) -> bytes:
    """Return an answer file, checked before, with further commands behind its own of the first pass."""
    for prefix, address in _prefixes(data):
        if not prefix.startswith("ns") and prefix != "xml":
            ElementTree.register_namespace(prefix, address)
    parser = ElementTree.XMLParser(target=ElementTree.TreeBuilder(insert_comments=True))
    root = ElementTree.fromstring(data, parser)
    passes = [each for each in root.iter(_tag("settings")) if each.get("pass") == _WINDOWS_PE]
    settings = passes[0] if passes else ElementTree.SubElement(root, _tag("settings"), {"pass": _WINDOWS_PE})
    for architecture in architectures:
        own = (
            each
            for within in passes
            for each in within.findall(_tag("component"))
            if each.get("name") == _SETUP and each.get("processorArchitecture") == PROCESSORS[architecture]
        )
        component = next(own, None)
        _append(component if component is not None else _new_component(settings, architecture), commands)
    return _text(root, _comments_before(data))


def _comments_before(data: bytes) -> list[str]:
    """Return the comments in front of the root, which a tree does not hold."""
    found: list[str] = []
    parser = expat.ParserCreate()
    parser.CommentHandler = found.append

    def end_of_them(_name: str, _attributes: dict[str, str]) -> None:
        parser.CommentHandler = None

    parser.StartElementHandler = end_of_them
    parser.Parse(data, True)
    return found


def check_answer_file(data: bytes, name: str, architectures: Sequence[str]) -> tuple[str, ...]:
    """Raise UsageError, naming the line, for what setup would pass over or stop at; return what it will pass over.

    `architectures` are those of the setup environment.
    """
    starts = list(_parsed(data, name))
    if not starts or starts[0].path != ("unattend",) or starts[0].namespace != NAMESPACE:
        raise _fault(name, starts[0].line if starts else 1, f"its root is not 'unattend' of the namespace {NAMESPACE}")
    served: dict[str, int] = {}
    for start in starts:
        where, attributes = start.path[1:], start.attributes
        if start.namespace != NAMESPACE:
            raise _fault(
                name, start.line, f"'{start.path[-1]}' is not of the namespace {NAMESPACE}: setup passes over it"
            )
        if len(where) == 1 and where[0] == "settings" and attributes.get("pass") not in _PASSES:
            raise _fault(name, start.line, f"there is no pass '{attributes.get('pass', '')}' ({', '.join(_PASSES)})")
        if where == ("settings", "component"):
            _check_component(start, name)
            served.setdefault(attributes["processorArchitecture"], start.line)
    _check_commands(data, name)
    wanted = {PROCESSORS[each] for each in architectures}
    if served and not wanted & served.keys():
        raise _fault(
            name,
            min(served.values()),
            f"its components are for {' and '.join(sorted(served))}, the setup environment is "
            f"{' and '.join(sorted(wanted))}: setup would pass over all of it",
        )
    lacking = sorted(wanted - served.keys())
    others = sorted(served.keys() - wanted)
    notes = [f"nothing in it is for {each}, which the source also has" for each in lacking if served]
    return (*notes, *(f"its components for {each} are passed over" for each in others))


def commands_of(data: bytes) -> tuple[str, ...]:
    """Return the commands of the first pass; none for bytes that are not an answer file."""
    try:
        _refuse_declarations(data)
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError, LookupError, UsageError):  # also an encoding that is unknown
        return ()
    return tuple(path for _, path in _commands(root))


# -- checking --------------------------------------------------------------------------------------------------------


def _check_component(start: _Start, name: str) -> None:
    attributes = start.attributes
    processor = attributes.get("processorArchitecture", "")
    if processor not in PROCESSORS.values():
        meant = PROCESSORS.get(processor)
        more = f"; write {meant}" if meant else f" ({', '.join(PROCESSORS.values())})"
        raise _fault(name, start.line, f"there is no processorArchitecture '{processor}'{more}")
    for key, value in _IDENTITY.items():
        if attributes.get(key) != value:
            raise _fault(name, start.line, f"component '{attributes.get('name', '')}' needs {key}=\"{value}\"")


def _check_commands(data: bytes, name: str) -> None:
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError, LookupError) as error:  # in an encoding that few programs know
        raise _fault(name, 1, f"it cannot be decoded ({error})") from error
    for component in root.iter(_tag("component")):
        orders = set()
        for order, path in _commands(component):
            if not order.isdecimal() or order in orders:
                raise _fault(name, 0, f"a command's Order '{order}' is missing, no number, or there twice")
            orders.add(order)
            if len(path) > _LONGEST_PATH:
                raise _fault(name, 0, f"a command has {len(path)} characters, {_LONGEST_PATH} at most are allowed")


def _commands(within: ElementTree.Element) -> Iterator[tuple[str, str]]:
    """Yield Order and Path of the commands below an element."""
    for command in within.iter(_tag("RunSynchronousCommand")):
        yield (command.findtext(_tag("Order")) or "").strip(), (command.findtext(_tag("Path")) or "").strip()


def _parsed(data: bytes, name: str) -> Iterator[_Start]:
    """Return every element's start. Raises UsageError for what is not well-formed, or could grow without bound."""
    _refuse_declarations(data)
    if len(data) > LARGEST:
        raise UsageError(f"{name} has {len(data):,} bytes: too many for an answer file.", advice=_ADVICE)
    found: list[_Start] = []
    path: list[str] = []
    parser = expat.ParserCreate(namespace_separator="\n")

    def start(tag: str, attributes: dict[str, str]) -> None:
        namespace, _, local = tag.rpartition("\n")
        path.append(local)
        if len(path) > _MOST_DEPTH:
            raise _fault(name, parser.CurrentLineNumber, "its elements are nested too deeply")
        found.append(_Start(parser.CurrentLineNumber, tuple(path), namespace, attributes))

    parser.StartElementHandler = start
    parser.EndElementHandler = lambda _tag: path.pop()
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise _fault(name, error.lineno, f"it is not well-formed ({expat.errors.messages[error.code]})") from error
    except (ValueError, LookupError) as error:  # an encoding that is unknown
        raise _fault(name, 1, f"it cannot be decoded ({error})") from error
    return iter(found)


def _refuse_declarations(data: bytes) -> None:
    plain = data.replace(b"\0", b"")
    if b"<!DOCTYPE" in plain or b"<!ENTITY" in plain:
        raise UsageError("The answer file holds declarations, which answer files never do.", advice=_ADVICE)


def _fault(name: str, line: int, why: str) -> UsageError:
    return UsageError(f"{name}{f', line {line}' if line else ''}: {why}.", advice=_ADVICE)


# -- making ----------------------------------------------------------------------------------------------------------


def _tag(name: str) -> str:
    return f"{{{NAMESPACE}}}{name}"


def _new_component(settings: ElementTree.Element, architecture: str) -> ElementTree.Element:
    attributes = {"name": _SETUP, "processorArchitecture": PROCESSORS[architecture], **_IDENTITY}
    return ElementTree.SubElement(settings, _tag("component"), attributes)


def _append(component: ElementTree.Element, commands: Iterable[str]) -> None:
    """Put commands behind those of a component; one that is there already is left out."""
    own = list(_commands(component))
    block = component.find(_tag("RunSynchronous"))
    if block is None:
        block = ElementTree.Element(_tag("RunSynchronous"))
        component.insert(0, block)
    order = max((int(number) for number, _ in own if number.isdecimal()), default=0)
    for command in commands:
        if command in (path for _, path in own):
            continue
        order += 1
        added = ElementTree.SubElement(block, _tag("RunSynchronousCommand"), {f"{{{_ACTIONS}}}action": "add"})
        ElementTree.SubElement(added, _tag("Order")).text = str(order)
        ElementTree.SubElement(added, _tag("Path")).text = command


def _text(root: ElementTree.Element, comments: Sequence[str] = ()) -> bytes:
    ElementTree.register_namespace("", NAMESPACE)
    ElementTree.register_namespace("wcm", _ACTIONS)
    ElementTree.indent(root)
    before = "".join(f"<!--{comment}-->\n" for comment in comments)
    text = ElementTree.tostring(root, encoding="unicode")
    return f"<?xml version='1.0' encoding='utf-8'?>\n{before}{text}\n".encode()


def _prefixes(data: bytes) -> Iterator[tuple[str, str]]:
    for _, pair in ElementTree.iterparse(io.BytesIO(data), events=("start-ns",)):
        prefix, address = pair
        yield prefix, address
