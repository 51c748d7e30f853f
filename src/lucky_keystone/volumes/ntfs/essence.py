"""The essence of a file record: what a healthy host leaves alone, summed to four bytes.

Hosts rewrite file records whenever they use a volume: dates, log numbers, update sequences, attributes added. What was
built is still there as long as a file keeps its names and its streams keep their sizes and clusters; that is what is
summed. The bytes of streams themselves lie in the files region, or in the record (then they are summed too).
"""

from __future__ import annotations

from collections.abc import Iterable

from blake3 import blake3

from ...common.collecting import without_collections
from ..volume import Run, VolumeError
from .attributes import mapping_pairs
from .catalogue import Node
from .file import FileRecords
from .layout import Layout, key_of
from .parse import parse_file_name
from .read import NtfsVolume
from .records import DATA, FILE_NAME, FIRST_USER, NAME_SHORT, REFERENCE_NUMBER, REPARSE_POINT

SIZE = 4
UNUSED = bytes(SIZE)
_KINDS = (DATA, REPARSE_POINT)


def _essence(names: Iterable[tuple[int, str]], streams: Iterable[tuple[int, str, int, bytes]]) -> bytes:
    """Sum names (folder's number, name) and streams (type, name, bytes, value or run list)."""
    digest = blake3()
    for folder, name in sorted(names):
        digest.update(f"{folder}/{name}\0".encode("utf-8", "surrogatepass"))
    for kind, name, size, where in sorted(streams):
        digest.update(f"{kind:X}:{name}:{size}\0".encode("utf-8", "surrogatepass") + where)
    return digest.digest(SIZE)


@without_collections()
def essences_of(layout: Layout) -> bytes:
    """Return the essences of a layout's file records, in order; zeros for those that no file of the tree has."""
    made = [UNUSED] * layout.catalogue.next_number
    for number, node in layout.catalogue.nodes.items():
        if number >= FIRST_USER:
            made[number] = _essence(_names(node), _streams(node, layout))
    return b"".join(made)


def _names(node: Node) -> list[tuple[int, str]]:
    return [(link.parent.number, link.name) for link in node.links if link.namespace != NAME_SHORT]


def _streams(node: Node, layout: Layout) -> list[tuple[int, str, int, bytes]]:
    if node.content is not None:
        count = layout.geometry.clusters_for(node.size)
        runs = mapping_pairs((Run(layout.plain[node.number], count),)) if count else b""
        return [(DATA, "", node.size, runs)]
    return [
        (a.kind, a.name, a.size, a.value if a.value is not None else mapping_pairs(layout.runs[key_of(node.number, a)]))
        for a in layout.attributes(node.number)
        if a.kind in _KINDS
    ]


def essence_of(file: FileRecords) -> bytes:
    """Return the essence of a file as it was read. Raises VolumeError for names or streams that cannot be read."""
    named = [parse_file_name(attribute.value or b"", f"File record {file.number}") for attribute in file.of(FILE_NAME)]
    names = [(key.parent & REFERENCE_NUMBER, name) for key, name in named if key.namespace != NAME_SHORT]
    streams = []
    for kind, name in dict.fromkeys((a.type, a.name) for a in file.attributes if a.type in _KINDS):
        stream = file.stream(name, kind)
        assert stream is not None
        streams.append(
            (kind, name, stream.size, stream.value if stream.value is not None else mapping_pairs(stream.runs))
        )
    return _essence(names, streams)


def changed_records(volume: NtfsVolume, essences: bytes) -> tuple[list[int], list[int]]:
    """Return the numbers of records that are no longer what was built, and of those that a host has added."""
    changed, added = [], []
    known = len(essences) // SIZE
    for number in range(FIRST_USER, max(volume.record_count, known)):
        expected = essences[SIZE * number : SIZE * number + SIZE] if number < known else UNUSED
        found = _found(volume, number)
        if expected not in (UNUSED, found):
            changed.append(number)
        elif expected == UNUSED and found is not None:
            added.append(number)
    return changed, added


def _found(volume: NtfsVolume, number: int) -> bytes | None:
    """Return the essence of what a record holds now; None when it is free or extends another one, or cannot be read."""
    try:
        return essence_of(volume.file(number))
    except VolumeError:
        return None
