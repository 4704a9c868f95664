"""What is imported or made when it is first used, so that a command starts quickly."""

from __future__ import annotations

import dataclasses
import inspect
import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from importlib import import_module
from threading import RLock
from typing import TYPE_CHECKING, Any, Generic, TypeVar

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


_MAKING = RLock()


class _AtFirst:
    """An attribute of a class that makes the class what it is to be when somebody asks for it."""

    def __init__(self, make: Callable[[], None], name: str) -> None:
        self._make, self._name = make, name

    def __get__(self, instance: object, owner: type) -> object:
        self._make()
        return getattr(owner, self._name)


class _Signature:
    """How a class is called, which its ``__init__`` tells."""

    def __get__(self, instance: object, owner: Any) -> inspect.Signature:
        if instance is not None:
            raise AttributeError("__signature__")
        dataclasses.fields(owner)
        signature = inspect.signature(owner.__init__)
        return signature.replace(parameters=list(signature.parameters.values())[1:])


def _later(cls: type[T], options: Mapping[str, Any]) -> type[T]:
    """Have a class become a dataclass when its first object is made, or its fields are asked for.

    All ways to an object, copying and unpickling too, lead through ``__new__``.
    """
    told = ("__dataclass_fields__", "__dataclass_params__", "__match_args__")
    waiting = [cls]

    def make() -> None:
        with _MAKING:
            if waiting:
                for name in told:
                    delattr(cls, name)
                dataclasses.dataclass(cls, **options)
                waiting.clear()

    def new(of: type[T], /, *values: object, **named: object) -> T:
        if waiting:
            make()
        return object.__new__(of)

    for name in told:
        setattr(cls, name, _AtFirst(make, name))
    cls.__new__ = new  # type: ignore[method-assign, assignment]
    cls.__signature__ = _Signature()  # type: ignore[attr-defined]
    return cls


if TYPE_CHECKING:
    from dataclasses import dataclass as dataclass
else:

    def dataclass(cls=None, /, **options):
        """As that of the standard library, but that the methods are made when the class is first
        used: half a millisecond for each, and a command uses few of them."""
        if options.get("slots"):  # another class stands in its place from the beginning
            return dataclasses.dataclass(cls, **options)
        return _later(cls, options) if cls is not None else lambda made: _later(made, options)
