"""The part of the machines' contract that is about registries and programs; see ``contract``."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from widetrail.errors import MachineUnusable, WentWrong
from widetrail.formats import Unreadable
from widetrail.formats.registry import TYPES, RegistryValue
from widetrail.formats.registry_writing import KEY, Edit
from widetrail.machine import Channels
from widetrail.machine.registries import Registry
from widetrail.testing.contract import Check, NotTried, Stand, refusal

TOP = r"HKEY_CURRENT_USER\Software\Widetrail contract"


def _registry(stand: Stand) -> Registry:
    if "registry" not in stand.machine.rules.stores:
        raise NotTried("the platform has no registry")
    return stand.machine.registry


@contextmanager
def _key(stand: Stand, key: str = TOP, view: str = "64") -> Iterator[Registry]:
    """Lend the registry with a key that goes again."""
    registry = _registry(stand)
    registry.edit([Edit(key), Edit(key, KEY)], view)
    try:
        yield registry
    finally:
        registry.edit([Edit(key)], view)
        assert registry.key(key, view) is None
        assert registry.tree(key, view) == ()


def _without_a_registry_that_is_said(stand: Stand) -> None:
    if "registry" in stand.machine.rules.stores:
        raise NotTried("the platform has a registry")
    registry = stand.machine.registry
    for call in (registry.key, registry.tree, lambda key: registry.edit([Edit(key, KEY)])):
        with refusal(Unreadable):
            call(TOP)


def _values_of_every_type_keep_their_bytes(stand: Stand) -> None:
    text = "Bö\u0301 🌿".encode("utf-16-le")
    values = [RegistryValue(f"of {kind}", kind, b"\x01\x02\x03\x04") for kind in TYPES]
    values += [
        RegistryValue("", "REG_SZ", text + b"\0\0"),
        RegistryValue("without its end", "REG_SZ", text),
        RegistryValue("with more behind it", "REG_EXPAND_SZ", text + b"\0\0a\0\0\0"),
        RegistryValue("empty", "REG_SZ", b""),
        RegistryValue("an empty one between", "REG_MULTI_SZ", b"a\0\0\0\0\0b\0\0\0\0\0"),
        RegistryValue("a short number", "REG_DWORD", b"\x07"),
        RegistryValue("large", "REG_BINARY", bytes(range(256)) * 40),
        RegistryValue("of no known type", "REG_TYPE_fe12", b"fern"),
        RegistryValue('a "name" \\ of = marks', "REG_QWORD", b"\xff" * 8),
        RegistryValue("x" * 255, "REG_DWORD", b"\0\0\0\x80"),
    ]
    with _key(stand) as registry:
        registry.edit([Edit(TOP, value.name, value) for value in values])
        found = registry.key(TOP)
        assert found is not None
        told = {v.name: (v.type, v.data) for v in found.values.values()}
        assert told == {v.name: (v.type, v.data) for v in values}


def _values_are_replaced_and_taken_away(stand: Stand) -> None:
    one = RegistryValue("Name", "REG_SZ", "a\0".encode("utf-16-le"))
    two = RegistryValue("NAME", "REG_DWORD", b"\x02\0\0\0")
    own = RegistryValue("", "REG_SZ", "own\0".encode("utf-16-le"))
    with _key(stand) as registry:
        registry.edit([Edit(TOP, "Name", one), Edit(TOP, "", own), Edit(TOP, "name", two)])
        found = registry.key(TOP.upper())
        assert found is not None
        assert set(found.values) == {"", "name"}
        assert found.values["name"].plain == 2
        assert found.values[""].plain == "own"
        registry.edit([Edit(TOP, "Name"), Edit(TOP, ""), Edit(TOP, "not there")])
        empty = registry.key(TOP)
        assert empty is not None
        assert empty.values == {}
        registry.edit([Edit(rf"{TOP}\not there", "value"), Edit(rf"{TOP}\nor this")])
        assert [key.path for key in registry.tree(TOP)] == [TOP]


def _a_tree_gives_each_key_before_those_below_it(stand: Stand) -> None:
    with _key(stand) as registry:
        leaf = RegistryValue("leaf", "REG_SZ", b"\0\0")
        registry.edit([Edit(rf"{TOP}\a\b\c", "leaf", leaf), Edit(rf"{TOP}\d", KEY)])
        below = [key.path[len(TOP) :] for key in registry.tree(TOP)]
        assert below == ["", r"\a", r"\a\b", r"\a\b\c", r"\d"]
        registry.edit([Edit(rf"{TOP}\a")])
        assert [key.path[len(TOP) :] for key in registry.tree(TOP)] == ["", r"\d"]


def _programs_of_32_bits_see_their_own_part(stand: Stand) -> None:
    machines = r"HKEY_LOCAL_MACHINE\Software\Widetrail contract"
    if not stand.machine.administrator:
        raise NotTried("only an administrator changes that part")
    value = RegistryValue("Bits", "REG_DWORD", b"\x20\0\0\0")
    with _key(stand, machines, "32") as registry:
        registry.edit([Edit(machines, "Bits", value)], "32")
        seen = registry.key(machines, "32")
        assert seen is not None
        assert seen.values["bits"].plain == 32
        assert registry.key(machines, "64") is None
        there = registry.key(r"HKEY_LOCAL_MACHINE\Software\Wow6432Node\Widetrail contract")
        assert there is not None
        assert there.values["bits"].plain == 32
        assert [key.path for key in registry.tree(machines, "32")] == [there.path]


REGISTRY: tuple[Check, ...] = (
    _without_a_registry_that_is_said,
    _values_of_every_type_keep_their_bytes,
    _values_are_replaced_and_taken_away,
    _a_tree_gives_each_key_before_those_below_it,
    _programs_of_32_bits_see_their_own_part,
)
"""What is tried of registries."""

_SPEAKS = """
import os, sys
sys.stdout.buffer.write(sys.stdin.buffer.read() + os.environ["FERN"].encode() + b"\\xff\\r\\n")
sys.stderr.buffer.write("|".join(sys.argv[1:]).encode("utf-8"))
print(os.listdir("."), end="")
sys.exit(3)
"""


def _python(stand: Stand) -> list[str]:
    if not stand.program:
        raise NotTried("it has no Python")
    return [stand.program, "-X", "utf8", "-c"]


def _a_program_is_given_all_and_told_whole(stand: Stand) -> None:
    program, *arguments = _python(stand)
    given = ["a b", 'with "quotes"', "back\\slash\\", "Bö 🌿", "", "%PATH% $HOME *"]
    channels = Channels(b"in\r\n\0", {"FERN": "leaf"})
    done = stand.machine.start(program, [*arguments, _SPEAKS, *given], 60, channels)
    assert done.status == 3, done.errors
    assert done.printed == b"in\r\n\0leaf\xff\r\n[]"
    assert done.output == "in\n\0leaf\ufffd\n[]"
    assert done.errors == "|".join(given)


def _a_program_that_never_ends_is_stopped(stand: Stand) -> None:
    program, *arguments = _python(stand)
    child = "import time; time.sleep(60)"
    spawns = f"import subprocess, sys, time; subprocess.Popen([sys.executable, '-c', {child!r}]);"
    with refusal(WentWrong, program):
        stand.machine.start(program, [*arguments, f"{spawns} time.sleep(60)"], 2)
    flood = "import sys\nwhile True: sys.stdout.write('fern' * 100000)"
    with refusal(WentWrong, program):
        stand.machine.start(program, [*arguments, flood], 60)
    with refusal(MachineUnusable, stand.at("none")):
        stand.machine.start(stand.at("none"), [])


def _what_a_program_leaves_running_is_told(stand: Stand) -> None:
    program, *arguments = _python(stand)
    told: list[int] = []
    child = "import time; time.sleep(50)"
    leaves = f"import subprocess, sys; subprocess.Popen([sys.executable, '-c', {child!r}])"
    channels = Channels(began=lambda pid, started: told.append(pid))
    done = stand.machine.start(program, [*arguments, leaves], 60, channels)
    assert done.status == 0, done.errors
    assert len(told) == 1
    assert len(done.left) == 1, done.left


def _a_program_that_runs_is_found(stand: Stand) -> None:
    program, *_ = _python(stand)
    stand.machine.launch(program, ["-c", "import time; time.sleep(8)"])
    end = time.monotonic() + 6
    while not (lines := stand.machine.running(program)) and time.monotonic() < end:
        time.sleep(0.1)
    assert lines
    assert all("process " in line for line in lines)


PROGRAMS: tuple[Check, ...] = (
    _a_program_is_given_all_and_told_whole,
    _a_program_that_never_ends_is_stopped,
    _what_a_program_leaves_running_is_told,
    _a_program_that_runs_is_found,
)
"""What is tried of programs."""
