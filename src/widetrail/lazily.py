"""Packages that import what they give when it is first used, so that a command starts quickly."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module


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
