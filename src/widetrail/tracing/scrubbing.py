"""Samples in which words are made up: what a person wrote is replaced, what a program needs stays.

Whether a file may be changed so is found by experiment: the program must print as many lines with
the same numbers as before. A file that it cannot read any more stays as it is, and is told.
"""

from __future__ import annotations

import hashlib
import json
import re
import secrets
import sqlite3
from collections.abc import Callable, Collection, Sequence
from contextlib import closing, suppress

from widetrail.formats.companions import BESIDE, SQLITE
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.tracing.draft_contents import named_paths
from widetrail.tracing.lab import Screen
from widetrail.tracing.markers import columns, quoted_name
from widetrail.tracing.minimal import least
from widetrail.tracing.parts import change_values, data_of, form_of, values_in

TEXT_MOST = 4 * 1024 * 1024
"""Bytes of a text file that is changed, at most."""

_WORD = re.compile(r"[^\W\d_]{2,}")
_WRITTEN = re.compile(r"\S\s+\S|[^\W\d_]*[A-ZÀ-Þ][^\W\d_]+|\S+@\S+\.\S+")
"""What a person wrote, rather than a program: several words, a capital letter, an address."""

_DOMAIN = re.compile(r"(@[\w-]+)[\w.-]*")
_VOWELS, _CONSONANTS = "aeiou", "bdfgklmnprstvw"


class MadeUp:
    """Made-up words: the same word is replaced by the same one, in one run only."""

    def __init__(self) -> None:
        self._salt = secrets.token_bytes(16)

    def text(self, text: str) -> str:
        """Return a text with every word made up, cased alike; an address ends in a name that nobody
        has."""
        made = _WORD.sub(lambda match: self._word(match[0]), text)
        return _DOMAIN.sub(r"\1.example", made)

    def secret(self, text: str) -> str:
        """Return a text with all of it made up, digits too."""
        return re.sub(r"\d", lambda match: str(self._digit(match[0])), self.text(text))

    def _digit(self, digit: str) -> int:
        return hashlib.blake2b(digit.encode(), key=self._salt).digest()[0] % 10

    def _word(self, word: str) -> str:
        seed = hashlib.blake2b(word.casefold().encode(), key=self._salt).digest()
        letters = []
        for number, letter in enumerate(word):
            those = (_CONSONANTS, _VOWELS)[number % 2]
            made = those[seed[number % len(seed)] % len(those)]
            letters.append(made.upper() if letter.isupper() else made)
        return "".join(letters)


Shape = tuple[int, list[list[str]]]
"""What of a print-out stays when words are made up: its status, and the numbers in its lines."""

Put = Callable[[str], str]
"""Gives what a text becomes."""


class _Written:
    """Makes up what a person wrote, and leaves paths, markup and words of a program's own."""

    def __init__(self, machine: FolderMachine, made: MadeUp) -> None:
        self._machine, self._made = machine, made

    def put(self, text: str) -> str:
        kept = not _WRITTEN.search(text) or any(sign in text for sign in "<>/\\")
        if kept or named_paths(self._machine, [text.strip()]):
            return text
        return self._made.text(text)


def scrub(
    machine: FolderMachine,
    paths: Sequence[str],
    look: Callable[[], Screen],
    secret: Sequence[str] = (),
) -> list[str]:
    """Make up the words in files of a machine, and all values of ``secret`` ones; return the files
    that stay as they are, since the program could not read them otherwise. ``look`` returns what it
    prints then."""
    made, usual = MadeUp(), shape_of(look())
    wanted = [path for path in (*paths, *secret) if _is_file(machine, path)]
    was = {path: _Kept.of(machine, path) for path in wanted}
    now: dict[str, _Kept] = {}
    for path in wanted:
        put = made.secret if path in secret else _Written(machine, made).put
        if _scrubbed(machine, path, put):
            now[path] = _Kept.of(machine, path)
            was[path].put(machine)

    def change(stay: Collection[str]) -> None:
        for path, kept in now.items():
            (was[path] if path in stay else kept).put(machine)

    def enough(stay: Sequence[str]) -> bool:
        change(stay)
        same = shape_of(look()) == usual
        for kept in was.values():
            kept.put(machine)
        return same

    stays = least(sorted(now), enough)
    change(stays)
    return stays


@dataclass(frozen=True)
class _Kept:
    """A file and what a database has beside it, as they are at a moment."""

    path: str
    data: dict[str, bytes]

    @classmethod
    def of(cls, machine: FolderMachine, path: str) -> _Kept:
        names = [f"{path}{ending}" for ending in ("", *BESIDE)]
        there = [name for name in names if _is_file(machine, name)]
        return cls(path, {name: machine.host(name).read_bytes() for name in there})

    def put(self, machine: FolderMachine) -> None:
        for ending in ("", *BESIDE):
            host = machine.host(f"{self.path}{ending}")
            if f"{self.path}{ending}" in self.data:
                host.write_bytes(self.data[f"{self.path}{ending}"])
            else:
                host.unlink(missing_ok=True)


def _is_file(machine: FolderMachine, path: str) -> bool:
    entry = machine.look(path)
    return entry is not None and entry.kind == "file"


def shape_of(screen: Screen) -> Shape:
    """Return what of a print-out stays when words are made up: its lines' numbers, in any order."""
    return screen.status, sorted(re.findall(r"\d+", line) for line in screen.lines)


def _scrubbed(machine: FolderMachine, path: str, put: Put) -> bool:
    """Make up the words in a file; return whether it holds any that can be."""
    data, host = data_of(machine, path), machine.host(path)
    if data.startswith(SQLITE):
        return change_texts(machine, path, put)
    if b"\0" in data[:4096] or len(data) > TEXT_MOST:
        return False
    try:
        text = data.decode()
    except UnicodeDecodeError:
        return False
    told, form = _json(text, put), form_of(path, data)
    if told is None and form is not None:
        changes = {at: now for at, was in values_in(form, data).items() if (now := put(was)) != was}
        change_values(machine, path, form, dict(changes))
        return bool(changes)
    if told is None:
        told = "".join(_line(line, put) for line in text.splitlines(keepends=True))
    host.write_bytes(told.encode())
    return told != text


def _json(text: str, put: Put) -> str | None:
    try:
        value = json.loads(text)
    except (ValueError, RecursionError):
        return None
    changed = _values(value, put)
    indent = 1 if "\n" in text.strip() else None
    return json.dumps(changed, ensure_ascii=text.isascii(), indent=indent)


def _values(value: object, put: Put) -> object:
    match value:
        case str():
            return put(value)
        case list():
            return [_values(inner, put) for inner in value]
        case dict():
            return {name: _values(inner, put) for name, inner in value.items()}
    return value


def _line(line: str, put: Put) -> str:
    """Return a line with what stands after a name and its sign, or the whole of it, made up."""
    head, sign, rest = re.match(r"(?:([\w.;-]+)([:=]))?(.*)", line, re.DOTALL).groups()  # type: ignore[union-attr]
    return f"{head or ''}{sign or ''}{put(rest)}"


def change_texts(machine: FolderMachine, path: str, put: Put) -> bool:
    """Change the texts in a database, with what stands in its journal, and leave nothing of the
    former ones in the file; return whether any changed."""
    host, changed = str(machine.host(path)), 0
    with suppress(sqlite3.Error), closing(sqlite3.connect(host)) as database:
        for table, column in list(columns(database)):
            name, into = quoted_name(column), quoted_name(table)
            with suppress(sqlite3.Error):
                rows = database.execute(f"select distinct {name} from {into}").fetchall()
                for (text,) in rows:
                    if isinstance(text, str) and (now := put(text)) != text:
                        query = f"update {into} set {name} = ? where {name} = ?"
                        changed += database.execute(query, (now, text)).rowcount
        database.commit()
        if changed:
            database.execute("vacuum")
    return changed > 0
