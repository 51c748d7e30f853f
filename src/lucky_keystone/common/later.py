"""Packages that take long to load, under their usual names: each is loaded when something of it is first used."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__all__ = ["np", "tomlkit", "zstandard"]


class _Later:
    """Stands for a package until then; what was used of it once is found as quickly as in the package itself."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, attribute: str) -> Any:
        value = getattr(import_module(self._name), attribute)
        setattr(self, attribute, value)
        return value


if TYPE_CHECKING:
    import numpy as np
    import tomlkit
    import zstandard
else:
    np, tomlkit, zstandard = _Later("numpy"), _Later("tomlkit"), _Later("zstandard")
