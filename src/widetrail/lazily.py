"""What is imported when it is first used, so that a command starts quickly."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from importlib import import_module
from typing import Any, Generic, TypeVar

T = TypeVar("T")

_PLUGINS = "PYDANTIC_DISABLE_PLUGINS"
_ours = False


def start_without_plugins() -> None:
    """Have the library of models look for no plugins in this process: that is a tenth of a short
    command. Programs that are started are not told (``environment``)."""
    global _ours
    _ours = _PLUGINS not in os.environ
    os.environ.setdefault(_PLUGINS, "__all__")


def environment() -> dict[str, str]:
    """Return the environment of this process as it was given."""
    return {n: value for n, value in os.environ.items() if not (_ours and n == _PLUGINS)}


class Imported(Mapping[str, T], Generic[T]):
    """A table whose values are imported when they are first asked for.

    ``homes`` holds for each name the module, right below ``package``, and what that calls it;
    ``made`` makes a value of it.
    """

    def __init__(
        self,
        package: str,
        homes: Mapping[str, tuple[str, str]],
        made: Callable[[Any], T] = lambda found: found,
    ) -> None:
        self._package, self._homes, self._made = package, homes, made
        self._found: dict[str, T] = {}

    def __getitem__(self, name: str) -> T:
        if name not in self._found:
            module, attribute = self._homes[name]
            self._found[name] = self._made(
                getattr(import_module(f"{self._package}.{module}"), attribute)
            )
        return self._found[name]

    def __contains__(self, name: object) -> bool:
        return name in self._homes

    def __iter__(self) -> Iterator[str]:
        return iter(self._homes)

    def __len__(self) -> int:
        return len(self._homes)


def lazily(package: str, given: Mapping[str, Sequence[str]]) -> Callable[[str], object]:
    """Return the ``__getattr__`` (PEP 562) of a package that gives names of modules.

    ``given`` holds names by the module that each is in: a whole name, or one right below the
    package.
    """
    homes = {name: module for module, names in given.items() for name in names}

    def find(name: str) -> object:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        home = homes[name]
        module = import_module(home if "." in home else f"{package}.{home}")
        found: object = getattr(module, name)
        setattr(sys.modules[package], name, found)
        return found

    return find
