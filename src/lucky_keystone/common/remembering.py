"""Results that are kept with the object they are about, and go with it: nothing else keeps that alive."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Concatenate, ParamSpec, TypeVar

_P = ParamSpec("_P")
_O = TypeVar("_O")
_R = TypeVar("_R")
_KEPT = "_remembered"


def remembered(function: Callable[Concatenate[_O, _P], _R]) -> Callable[Concatenate[_O, _P], _R]:
    """Let a function keep what it returned with its first argument; the others have to be hashable."""

    @wraps(function)
    def call(about: _O, /, *arguments: _P.args, **named: _P.kwargs) -> _R:
        kept: dict[object, _R] = vars(about).setdefault(_KEPT, {})
        key = (function, arguments, tuple(named.items()))
        if key not in kept:
            kept[key] = function(about, *arguments, **named)
        return kept[key]

    return call
