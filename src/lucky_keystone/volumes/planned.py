"""What planned volumes of all kinds measure alike: from a geometry and a layout in clusters."""

from __future__ import annotations

from typing import Any, Protocol

from .placing import LARGEST_FILLED_HOLE


class Measures(Protocol):
    """A geometry of any kind: counts in sectors, cluster size in bytes."""

    @property
    def sector_size(self) -> int: ...

    @property
    def cluster_size(self) -> int: ...

    @property
    def hidden(self) -> int: ...

    @property
    def total(self) -> int: ...

    @property
    def cluster_count(self) -> int: ...

    def cluster_offset(self, cluster: int) -> int:
        """Return the bytes from the volume's start to a cluster."""


class Places(Protocol):
    """A layout of any kind, in clusters."""

    @property
    def next_free(self) -> int: ...

    @property
    def clusters_used(self) -> int: ...

    @property
    def holes(self) -> tuple[tuple[int, int], ...]: ...


class ClusterVolume:
    """A planned volume whose bytes lie in clusters. Offsets and sizes in bytes of the drive."""

    label: str
    geometry: Measures
    layout: Places

    @property
    def start(self) -> int:
        return self.geometry.hidden * self.geometry.sector_size

    @property
    def size(self) -> int:
        return self.geometry.total * self.geometry.sector_size

    @property
    def end(self) -> int:
        return self.start + self.size

    @property
    def used_end(self) -> int:
        return self.start + self.geometry.cluster_offset(self.layout.next_free)

    @property
    def free(self) -> int:
        return (self.geometry.cluster_count - self.layout.clusters_used) * self.cluster_size

    @property
    def cluster_size(self) -> int:
        return self.geometry.cluster_size

    @property
    def scattered(self) -> int:
        return sum(1 for _, count in self.layout.holes if count * self.cluster_size >= LARGEST_FILLED_HOLE)

    def common_note(self, kind: str, serial: int) -> dict[str, Any]:
        """Return what the manifest keeps of a volume of any kind."""
        return {
            "offset": self.start,
            "file_system": kind,
            "label": self.label,
            "serial": serial,
            "next_free_cluster": self.layout.next_free,
            "free_clusters": self.geometry.cluster_count - self.layout.clusters_used,
            "folders": [],
            "holes": [list(hole) for hole in self.layout.holes],
        }
