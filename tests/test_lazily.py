"""Dataclasses whose methods are made when they are first used."""

import copy
import dataclasses
import inspect
import pickle
import pkgutil
import subprocess
import sys
from dataclasses import FrozenInstanceError, field, replace
from importlib import import_module
from threading import Barrier, Thread
from typing import Any

import pytest

import widetrail
from widetrail.lazily import dataclass


@dataclass(frozen=True)
class Bird:
    name: str
    eggs: int = 0


@dataclass(frozen=True, order=True)
class Owl(Bird):
    """An owl."""

    prey: list[str] = field(default_factory=list, compare=False)

    def __post_init__(self) -> None:
        if self.eggs < 0:
            raise ValueError("no owl has fewer eggs than none")


@dataclass(frozen=True, eq=False)
class Nest:
    number: int


@dataclass
class Count:
    value: int = 0


def told(cls: type) -> bool:
    """Return whether a class is made already."""
    return isinstance(vars(cls)["__dataclass_fields__"], dict)


def test_a_class_is_made_when_its_first_object_is() -> None:
    @dataclass(frozen=True)
    class Egg:
        colour: str

    assert not told(Egg)
    assert Egg("blue") == Egg(colour="blue")
    assert told(Egg)
    assert repr(Egg("blue")).endswith("Egg(colour='blue')")


def test_it_is_what_the_standard_library_makes() -> None:
    owl = Owl("barn owl", 4)
    assert (owl.prey, replace(owl, eggs=5).eggs, hash(owl) == hash(Owl("barn owl", 4))) == (
        [],
        5,
        True,
    )
    assert owl < Owl("tawny owl")
    assert [f.name for f in dataclasses.fields(Owl)] == ["name", "eggs", "prey"]
    assert Nest(1) != Nest(1)
    with pytest.raises(FrozenInstanceError):
        owl.name = "another"  # type: ignore[misc]
    with pytest.raises(ValueError, match="fewer eggs"):
        Owl("barn owl", -1)
    with pytest.raises(TypeError, match="missing 1 required"):
        Bird()  # type: ignore[call-arg]
    with pytest.raises(TypeError, match="unhashable"):
        hash(Count())
    match owl:
        case Owl(name, eggs):
            assert (name, eggs) == ("barn owl", 4)


def test_it_tells_how_it_is_called() -> None:
    assert list(inspect.signature(Nest).parameters) == ["number"]
    assert list(inspect.signature(Owl).parameters) == ["name", "eggs", "prey"]


def test_what_comes_from_another_process_or_is_copied_is_the_same() -> None:
    code = (
        "import pickle, sys; from widetrail.machine.interface import Room; "
        "sys.stdout.buffer.write(pickle.dumps(Room('/', 7)))"
    )
    data = subprocess.run([sys.executable, "-c", code], capture_output=True, check=True).stdout
    code = "import pickle, sys; print(pickle.loads(sys.stdin.buffer.read()))"
    read = subprocess.run([sys.executable, "-c", code], input=data, capture_output=True, check=True)
    assert read.stdout.decode().strip() == "Room(volume='/', free=7)"
    owl = Owl("barn owl")
    assert copy.copy(owl) == copy.deepcopy(owl) == pickle.loads(pickle.dumps(owl)) == owl


def test_threads_that_make_the_first_object_at_once_all_get_one() -> None:
    for _ in range(50):

        @dataclass(frozen=True)
        class Feather:
            length: int
            of: str = ""

        start, made = Barrier(8), list[Any]()

        def make(start: Barrier = start, made: list[Any] = made, cls: Any = Feather) -> None:
            start.wait()
            made.append(cls(3, of="wing"))

        threads = [Thread(target=make) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert made == [Feather(3, "wing")] * 8


def test_every_class_of_the_package_can_be_made() -> None:
    """What is wrong with one would show when it is first used only."""
    count = 0
    for module in pkgutil.walk_packages(widetrail.__path__, "widetrail."):
        if module.name.endswith("__main__") or "windows" in module.name or "demo" in module.name:
            continue
        for found in vars(import_module(module.name)).values():
            if isinstance(found, type) and found.__module__ == module.name:
                count += dataclasses.is_dataclass(found) and len(dataclasses.fields(found)) >= 0
    assert count > 180
