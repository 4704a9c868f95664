"""Taking a reading on a machine: a value or a stated unknown, and nothing written.

What programs and strangers wrote is parsed within bounds (``formats.parser_process``);
a database is asked in a copy made with its journal.
"""

from __future__ import annotations

import pickle
import re
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.finding.globbing import has_glob, matching
from widetrail.finding.values import Known, Unknown, Value
from widetrail.formats import Located, Raw, Unreadable, digest
from widetrail.formats.companions import JOURNALS, names_another
from widetrail.formats.dconf import read_dconf
from widetrail.formats.expressions import read_text_value
from widetrail.formats.form import Form
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import NotThere
from widetrail.formats.kept_answers import KeptAnswers
from widetrail.formats.parser_process import ask, ask_form, ask_pattern
from widetrail.formats.registry import ITSELF
from widetrail.formats.stored_values import NUMBER_MOST
from widetrail.machine import Entry, Machine
from widetrail.machine.path_notation import understand_path
from widetrail.recipe import Reading

COPY_MOST = 4 * 1024 * 1024 * 1024
"""Bytes of a database that is copied to be asked, at most."""

SMALL = 256 * 1024
"""Bytes of a database, and of each of its journals, whose answers are kept."""

TRIES = 5
"""How often a database that a program is writing is copied anew."""


def take_reading(
    machine: Machine, reading: Reading, path: str, parameters: Mapping[str, str] | None = None
) -> Known | Unknown:
    """Read ``reading`` from the file at ``path``; a failure is an ``Unknown`` with its reason."""
    try:
        form = FORMS[reading.form]
        if not form.of_nothing and machine.look(path) is None:
            return Unknown(f"{path} is not there", absent=True)
        found = _found(machine, form, reading, path, parameters or {})
        return _known(found, reading, machine, path)
    except (Unreadable, MachineUnusable) as error:
        return unknown(error, path)


def _found(
    machine: Machine, form: Form, reading: Reading, path: str, parameters: Mapping[str, str]
) -> list[Located]:
    at = reading.at or ""
    if form.database is not None:
        return [ask_database(machine, form, path, at, parameters)]
    if form.about is not None:
        return [Located(form.about(_NamesAt(machine, path)))]
    assert form.read is not None, "a form that is a reading can be read"
    try:
        return ask_form(form, form.read, machine.read(path), at)
    except NotThere:  # none is an answer too where several are asked for
        if not form.several or reading.as_ not in _MANY:
            raise
        return []


class _NamesAt:
    """What is at and below a path of a machine."""

    def __init__(self, machine: Machine, path: str) -> None:
        self._machine, self._path = machine, path

    def matched(self) -> Iterator[Entry]:
        if has_glob(self._path):
            yield from (entry for _, entry in matching(self._machine, self._path))
        elif (entry := self._machine.look(self._path)) is not None:
            yield entry

    def below(self) -> Iterator[Entry]:
        there = None if has_glob(self._path) else self._machine.look(self._path)
        if there is None or there.kind == "file":
            yield from self.matched()
        else:
            yield from self._machine.walk(self._path)


def take_from_registry(machine: Machine, reading: Reading) -> Known | Unknown:
    """Read a registry value."""
    assert reading.key is not None
    assert reading.at is not None
    source = f"{reading.key}\\{reading.at}"
    try:
        key = machine.registry.key(reading.key, reading.view or "64")
        name = "" if reading.at == ITSELF else reading.at.casefold()
        if key is None or name not in key.values:
            return Unknown(f"{source} is not there", absent=True)
        value = key.values[name]
        return _known([Located(value.plain, value.line)], reading, machine, source)
    except (Unreadable, MachineUnusable) as error:
        return unknown(error, source)


def take_from_desktop(machine: Machine, reading: Reading) -> Known | Unknown:
    """Read a value of the desktop's settings database."""
    assert reading.settings is not None
    source = f"{reading.settings}/{reading.at}"
    try:
        found = ask(read_dconf, machine.desktop_settings(), reading.settings, reading.at or "")
        return _known([found], reading, machine, source)
    except (Unreadable, MachineUnusable) as error:
        return unknown(error, source)


def take_from_text(machine: Machine, reading: Reading, text: str, source: str) -> Known | Unknown:
    """Read a value out of a text, such as what a program printed."""
    try:
        found = ask_pattern(read_text_value, text, reading.at or "")
    except Unreadable as error:
        if not isinstance(error, NotThere) or reading.as_ not in _MANY:
            return unknown(error, source)
        found = []
    try:
        return _known(found, reading, machine, source)
    except Unreadable as error:
        return unknown(error, source)


def take_recorded(machine: Machine, reading: Reading, told: Raw, source: str) -> Known | Unknown:
    """Take an answer that was recorded: what a reading told before, as a plain text or list."""
    try:
        if reading.as_ == "count" or (reading.as_ is None and _is_number(told)):
            return Known(_number(told), source)
        found = [Located(one) for one in told] if isinstance(told, list) else [Located(told)]
        return _known(found, reading, machine, source)
    except Unreadable as error:
        return unknown(error, source)


def unknown(error: Exception, source: str) -> Unknown:
    """Return the unknown that an error of reading ``source`` means."""
    reason = str(error) if isinstance(error, MachineUnusable) else f"{source} {error}"
    return Unknown(reason, absent=isinstance(error, NotThere))


def ask_database(
    machine: Machine,
    form: Form,
    path: str,
    query: str,
    parameters: Mapping[str, str],
    *,
    rows: bool = False,
) -> Located:
    """Ask a database one query, in a copy made with its journal while nothing was written. The
    answer of a small one is kept for as long as it holds the same.

    ``rows`` asks for a list of mappings by column instead of plain values.

    Raises:
        Unreadable: It is not a database, is refused, or kept changing.
        MachineUnusable: It cannot be read.
    """
    assert form.database is not None
    held = _held(machine, path)
    asked = form.database.query.__qualname__, query, sorted(parameters.items()), rows, held
    key = digest(pickle.dumps(asked)) if held is not None else ""
    if (kept := _answers.get(key)) is not None:
        answer: Located = pickle.loads(kept)  # it was never out of this process
        return answer
    with copied_database(machine, path) as copy:
        answer = ask_form(form, form.database.query, copy, query, dict(parameters), rows)
        if held is not None and held == _held_by_copy(copy):
            _answers.keep(key, pickle.dumps(answer))
        return answer


_answers = KeptAnswers()


def _held(machine: Machine, path: str) -> list[bytes | None] | None:
    """Return what a small database and its journals hold, ``None`` for a journal that is not there;
    ``None`` where one is not small or cannot be read."""
    try:
        there = _state(machine, path)
        if any(e is not None and e.size > SMALL for e in there.values()):
            return None
        return [machine.read(path + s, SMALL) if e is not None else None for s, e in there.items()]
    except MachineUnusable:
        return None


def _held_by_copy(copy: str) -> list[bytes | None]:
    files = [Path(f"{copy}{suffix}") for suffix in ("", *JOURNALS)]
    return [file.read_bytes() if file.exists() else None for file in files]


@contextmanager
def copied_database(machine: Machine, path: str) -> Iterator[str]:
    """Lend a copy of a database with its journal, made while nothing was written.

    Raises:
        Unreadable: It kept changing.
        MachineUnusable: It cannot be read.
    """
    with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
        copy = Path(folder) / "copy.db"
        for _ in range(TRIES):
            before = _state(machine, path)
            for suffix, entry in before.items():
                if entry is not None:
                    _copy(machine, path + suffix, Path(f"{copy}{suffix}"))
            if _state(machine, path) == before:
                insist_own_journal(copy)
                yield str(copy)
                return
            for suffix in before:
                Path(f"{copy}{suffix}").unlink(missing_ok=True)
        raise Unreadable("changed again and again while it was read")


def insist_own_journal(database: Path) -> None:
    """Raise where playing back the journal of a copied database would remove a file elsewhere.

    Raises:
        Unreadable: Its journal names one.
    """
    journal = Path(f"{database}-journal")
    if not journal.exists():
        return
    with journal.open("rb") as file:
        file.seek(max(0, journal.stat().st_size - 64))
        if names_another(file.read()):
            raise Unreadable("has a journal that names another file, which would be removed")


def _state(machine: Machine, path: str) -> dict[str, Entry | None]:
    return {suffix: machine.look(path + suffix) for suffix in ("", *JOURNALS)}


def _copy(machine: Machine, path: str, target: Path) -> None:
    left = COPY_MOST
    with machine.open(path) as source, target.open("wb") as file:
        while chunk := source.read(1 << 20):
            left -= len(chunk)
            if left < 0:
                raise Unreadable("is too large to be copied and read")
            file.write(chunk)


_MANY = ("list", "set", "count")
"""What a reading is taken as where several matches are meant."""


def _known(found: list[Located], reading: Reading, machine: Machine, source: str) -> Known:
    several = reading.as_ in _MANY
    if len(found) > 1 and not several and reading.pick is None:
        raise Unreadable(
            f"has {len(found)} matches of {reading.at}; the recipe does not say which counts"
        )
    chosen = found[-1 if reading.pick == "last" else 0] if found else Located([])
    many = several and (len(found) != 1 or FORMS[reading.form].several)
    value: Raw = [f.value for f in found] if many else chosen.value
    return Known(_as(value, reading, machine, source), source, chosen.line)


def _as(value: Raw, reading: Reading, machine: Machine, source: str) -> Value:
    if isinstance(value, int | float) and not abs(value) < NUMBER_MOST:
        raise Unreadable("has a number there that is not valid, or too large")
    match reading.as_:
        case None if isinstance(value, str | int | float):
            return value
        case "text" if isinstance(value, str | int | float):
            return str(value)
        case "number":
            return _number(value)
        case "yes-no":
            return _yes_no(value)
        case "path" if isinstance(value, str):
            path, reason = understand_path(value, machine, source) if value else ("", "")
            if reason:
                raise Unreadable(f"names a path that is not understood: {reason}")
            return path
        case "count" if isinstance(value, list | dict):
            return len(value)
        case "count" if FORMS[reading.form].one_is_list:
            return int(value not in (None, ""))
        case "list" | "set" if not isinstance(value, dict):
            texts = [str(v) for v in (value if isinstance(value, list) else [value])]
            return tuple(sorted(set(texts)) if reading.as_ == "set" else texts)
    if value is None:
        raise Unreadable("gives nothing")
    wanted = f"as {reading.as_}" if reading.as_ else "unless the recipe says its type"
    raise Unreadable(f"has {_shape(value)} there, which cannot be converted {wanted}")


_NUMBER = re.compile(r"[+-]?[0-9]{1,300}(\.[0-9]{1,300})?([eE][+-]?[0-9]{1,3})?")


def _number(value: Raw) -> int | float:
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    if isinstance(value, str) and (found := _NUMBER.fullmatch(value.strip())):
        number = int(value) if found[1] is None and found[2] is None else float(value)
        if abs(number) < NUMBER_MOST:
            return number
    raise Unreadable(f"has {_shape(value)} there, which is not a number")


def _is_number(value: Raw) -> bool:
    return isinstance(value, str) and _NUMBER.fullmatch(value) is not None


def _yes_no(value: Raw) -> bool:
    word = str(value).strip().casefold()
    if word in ("yes", "true", "on", "1"):
        return True
    if word in ("no", "false", "off", "0"):
        return False
    raise Unreadable(f"has {_shape(value)} there, which is neither yes nor no")


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
