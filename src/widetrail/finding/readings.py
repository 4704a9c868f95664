"""Taking a reading on a machine: a value or a stated unknown, and nothing written."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.finding.values import Known, Unknown, Value
from widetrail.formats.expressions import read_text_value
from widetrail.formats.ini import read_ini
from widetrail.formats.interface import Located, NotThere, Raw, Unreadable
from widetrail.formats.json_ import read_json
from widetrail.formats.sqlite import query_sqlite
from widetrail.formats.texts import decode
from widetrail.machine import Entry, Machine
from widetrail.machine.paths import written_by_machine
from widetrail.recipe import Reading

Answer = Known | Unknown


def take_reading(machine: Machine, reading: Reading, path: str) -> Answer:
    """Read ``reading`` from the file at ``path``; a failure is an ``Unknown`` with its reason."""
    try:
        if reading.form not in _OF_NAMES and machine.look(path) is None:
            return Unknown(f"{path} is not there", absent=True)
        located = _FORMS[reading.form](machine, reading, path)
        value = _as(located.value, reading, machine)
    except (Unreadable, MachineUnusable) as error:
        reason = str(error) if isinstance(error, MachineUnusable) else f"{path} {error}"
        return Unknown(reason, absent=isinstance(error, NotThere))
    return Known(value, path, located.line)


def _ini(machine: Machine, reading: Reading, path: str) -> Located:
    return read_ini(machine.read(path), reading.at or "")


def _json(machine: Machine, reading: Reading, path: str) -> Located:
    return read_json(machine.read(path), reading.at or "")


def _text(machine: Machine, reading: Reading, path: str) -> Located:
    matches = read_text_value(decode(machine.read(path))[0], reading.at or "")
    if reading.as_ in ("list", "set", "count"):
        return Located([m.value for m in matches])
    if len(matches) > 1 and reading.pick is None:
        raise Unreadable(f"has {len(matches)} matches of {reading.at}, and none is picked")
    return matches[-1 if reading.pick == "last" else 0]


def _sqlite(machine: Machine, reading: Reading, path: str) -> Located:
    with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
        copy = Path(folder) / "copy.db"
        for suffix in ("", "-wal", "-journal"):
            if suffix and machine.look(path + suffix) is None:
                continue
            with machine.open(path + suffix) as source, Path(f"{copy}{suffix}").open("wb") as file:
                shutil.copyfileobj(source, file)
        return query_sqlite(copy, reading.at or "", {})


def _file(machine: Machine, _: Reading, path: str) -> Located:
    entry = machine.look(path)
    return Located(entry is not None and entry.kind == "file")


def _files(machine: Machine, _: Reading, path: str) -> Located:
    return Located(sum(entry.kind == "file" for entry in machine.walk(path)))


def _size(machine: Machine, _: Reading, path: str) -> Located:
    entry = _there(machine, path)
    if entry.kind == "file":
        return Located(entry.size)
    return Located(sum(inner.size for inner in machine.walk(path)))


def _modified(machine: Machine, _: Reading, path: str) -> Located:
    moment = datetime.fromtimestamp(_there(machine, path).mtime / 1e9, UTC)
    return Located(moment.isoformat(timespec="seconds"))


def _there(machine: Machine, path: str) -> Entry:
    entry = machine.look(path)
    assert entry is not None  # take_reading looked
    return entry


_FORMS: dict[str, Callable[[Machine, Reading, str], Located]] = {
    "ini": _ini, "json": _json, "text": _text, "sqlite": _sqlite, "file": _file,
    "files": _files, "size": _size, "modified": _modified,
}  # fmt: skip


_OF_NAMES = ("file", "files")
"""Forms that have an answer where nothing is there."""


def _as(value: Raw, reading: Reading, machine: Machine) -> Value:
    match reading.as_:
        case None if isinstance(value, str | int | float):
            return value
        case "text" if isinstance(value, str | int | float):
            return str(value)
        case "number":
            return _number(value)
        case "yes-no":
            return _yes_no(value)
        case "path" if isinstance(value, str) and value:
            return written_by_machine(value, machine.platform)
        case "count" if isinstance(value, list | dict):
            return len(value)
        case "list" | "set" if not isinstance(value, dict):
            texts = [str(v) for v in (value if isinstance(value, list) else [value])]
            return tuple(sorted(set(texts)) if reading.as_ == "set" else texts)
    wanted = f"as {reading.as_}" if reading.as_ else "without saying as what"
    raise Unreadable(f"gives {_shape(value)}, which cannot be taken {wanted}")


def _number(value: Raw) -> int | float:
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    for kind in (int, float):
        with suppress(ValueError):
            return kind(str(value).strip())
    raise Unreadable(f"gives {_shape(value)}, which is no number")


def _yes_no(value: Raw) -> bool:
    word = str(value).strip().casefold()
    if word in ("yes", "true", "on", "1"):
        return True
    if word in ("no", "false", "off", "0"):
        return False
    raise Unreadable(f"gives {_shape(value)}, which is neither yes nor no")


def _shape(value: Raw) -> str:
    match value:
        case None:
            return "nothing"
        case list():
            return f"a list of {len(value)}"
        case dict():
            return "a mapping"
        case _:
            return f'"{str(value)[:40]}"'
