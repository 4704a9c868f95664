"""Names in samples: the account's, and those that a person gave to files, are made up.

A name stands in many places: in paths, settings, databases, the registry. All are changed at once
on a copy of the sample, and only where the program then prints as many lines with the same numbers
does the copy become the sample.
"""

from __future__ import annotations

import html
import json
import re
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from urllib.parse import quote

import yaml

from widetrail.formats.companions import SQLITE
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import FILE
from widetrail.machine.paths import is_within, parent
from widetrail.rehearsing.machine_copies import copy_machine
from widetrail.tracing.minimal import least
from widetrail.tracing.naming import is_personal
from widetrail.tracing.parts import data_of
from widetrail.tracing.scrubbing import MadeUp, Shape, change_texts

Look = Callable[[FolderMachine], Shape]
"""Returns what of a print-out stays when words are made up."""

_SPELT: tuple[Callable[[str], bytes], ...] = (
    lambda text: text.encode("utf-8", "surrogateescape"),
    lambda text: text.encode("utf-16-le", "surrogatepass"),
    lambda text: json.dumps(text)[1:-1].encode(),
    lambda text: quote(text).encode(),
    lambda text: html.escape(text).encode("utf-8", "surrogateescape"),
)
"""How programs write a name."""


def make_up_account(folder: Path, look: Look) -> bool:
    """Give the account of a sample a made-up name; return whether the program goes on."""
    machine = FolderMachine(folder)
    user = machine.user
    made = MadeUp().text(user)
    return _try(folder, {user: made}, look, look(machine), account=made)


def make_up_files(
    folder: Path, names: Iterable[str], said: str, kept: Iterable[str], look: Look
) -> list[str]:
    """Make up what a person called files and folders of a sample; return those names that stay.

    ``said`` is what is written of the program, such as its recipe: a name that stands in it stays,
    as do those in ``kept`` paths.
    """
    made, wanted = MadeUp(), dict[str, str]()
    usual = look(FolderMachine(folder))
    fixed = {name for path in kept for name in path.split("/")}
    for name in names:
        stem, dot, ending = name.rpartition(".")
        new = f"{made.text(stem)}.{ending}" if dot and stem else made.text(name)
        if new != name and name not in fixed and name not in said and is_personal(name):
            wanted[name] = new

    def enough(stay: Sequence[str]) -> bool:
        changed = {name: new for name, new in wanted.items() if name not in set(stay)}
        return not changed or _try(folder, changed, look, usual, keeps=False)

    stay = least(sorted(wanted), enough) if wanted else []
    changed = {name: new for name, new in wanted.items() if name not in set(stay)}
    if changed:
        _try(folder, changed, look, usual)
    return stay


def _try(
    folder: Path,
    names: Mapping[str, str],
    look: Look,
    usual: Shape,
    *,
    account: str = "",
    keeps: bool = True,
) -> bool:
    """Change names on a copy; return whether the program shows what is ``usual`` there. Only if it
    ``keeps`` what it did does the copy take the place of the sample."""
    with tempfile.TemporaryDirectory(prefix="widetrail-", dir=folder.parent) as above:
        copy = Path(above) / folder.name
        copy_machine(folder, copy)
        _change(copy, names, account)
        same = look(FolderMachine(copy)) == usual
        if same and keeps:
            shutil.rmtree(folder)
            copy.rename(folder)
    return same


def _change(folder: Path, names: Mapping[str, str], account: str) -> None:
    machine = FolderMachine(folder)
    put = _texts(names)
    installed = tuple(parent(program.path) for program in machine.file.programs)
    for path in _files(machine, installed):
        data = data_of(machine, path)
        if data.startswith(SQLITE):
            change_texts(machine, path, put)
        elif data and (now := _bytes(data, names)) != data:
            machine.host(path).write_bytes(now)
    for file in folder.iterdir():
        if file.is_file() and file.name != FILE:
            file.write_bytes(_bytes(file.read_bytes(), names))
    disks = [str(machine.host(disk)) for disk in machine.disks()]
    for disk in disks:
        _rename(Path(disk), names)
    if account:
        told = yaml.load((folder / FILE).read_bytes(), yaml.CBaseLoader)
        for key in ("home", "redirected"):
            if key in told:
                told[key] = _all_texts(told[key], put)
        told["user"] = account
        (folder / FILE).write_text(yaml.safe_dump(told, allow_unicode=True), encoding="utf-8")


def _files(machine: FolderMachine, installed: Sequence[str]) -> Iterator[str]:
    for disk in machine.disks():
        for entry in machine.walk(disk):
            path = f"{disk.rstrip('/')}/{entry.path}"
            own = any(is_within(path, folder, machine.platform) for folder in installed)
            if entry.kind == "file" and not own:
                yield path


def _rename(top: Path, names: Mapping[str, str]) -> None:
    for path in sorted(top.rglob("*"), key=lambda path: -len(path.parts)):
        if path.name in names:
            path.rename(path.with_name(names[path.name]))


def _texts(names: Mapping[str, str]) -> Callable[[str], str]:
    found = re.compile("|".join(rf"(?<!\w){re.escape(name)}(?!\w)" for name in names))
    return lambda text: found.sub(lambda match: names[match[0]], text)


def _all_texts(value: object, put: Callable[[str], str]) -> object:
    if isinstance(value, dict):
        return {name: _all_texts(inner, put) for name, inner in value.items()}
    return put(value) if isinstance(value, str) else value


def _bytes(data: bytes, names: Mapping[str, str]) -> bytes:
    spelt = {spell(name): spell(new) for name, new in names.items() for spell in _SPELT}
    found = re.compile(b"|".join(rb"(?<!\w)%b(?!\w)" % re.escape(text) for text in spelt))
    return found.sub(lambda match: spelt[match[0]], data)
