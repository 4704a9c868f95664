"""A form: one way in which programs write values down, and everything there is to know of it.

Each form stands in a file of its own, as one ``Form`` value; ``forms`` is the table of them. What
reads and changes a file runs within bounds (``parser_process``), so each function of a form is one
of a module's own, or a method of a value that holds only such.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import Literal, NamedTuple, Protocol

from widetrail.formats.interface import Located, Raw, Scalar, Spot, Unwritable
from widetrail.formats.record import Records
from widetrail.lazily import dataclass

Role = Literal["reading", "set_in", "paths", "index", "write", "records", "values"]
"""What a form can be used for: a reading, telling where a place is, holding paths of the machine, a
program's own index of its folders, a value that is written, a store of records, and an item of
values that are taken one by one."""

Address = Literal["pointer", "query", "expression", "name", "none"]
"""What the ``at`` of a form is."""

Holder = Literal["file", "key", "settings", "command"]
"""What holds the values: a file, a key of the registry, a path of the desktop's settings, or what a
command of the program prints."""

Entry = Mapping[str, Raw]
"""An entry of an index: its values by name."""


class Status(Protocol):
    """What is known of something on a machine; ``mtime`` in nanoseconds."""

    @property
    def path(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def size(self) -> int: ...
    @property
    def mtime(self) -> int: ...


class Names(Protocol):
    """The names at and below a path of a machine, which may hold globs."""

    def matched(self) -> Iterator[Status]:
        """Give what the path names."""

    def below(self) -> Iterator[Status]:
        """Give all that is below it, or it itself where it is not a folder."""


class Database(NamedTuple):
    """What a form can do with a database, of which it gets a copy.

    ``query`` gives a value, or with ``by_column`` rows as mappings; ``column`` lists the texts of a
    column, ``put_column`` changes them and gives how many, ``put_cell`` changes the one in a row.
    """

    query: Callable[[str, str, Mapping[str, str], bool], Located]
    column: Callable[[str, str], list[Spot]]
    put_column: Callable[[str, str, Mapping[str, str]], int]
    put_cell: Callable[[str, str, Mapping[str, str], str], None]


class NamedValues(NamedTuple):
    """The values of a file by name, each as a text that only its form reads.

    ``read`` gives them all; none of a file that is empty. ``change`` gives the file with some set,
    or taken away where the text is ``None``; a file that is empty becomes one with these alone.
    ``folds_names`` tells that names are the same whatever their case.
    """

    read: Callable[[bytes], dict[str, str]]
    change: Callable[[bytes, Mapping[str, str | None]], bytes]
    folds_names: bool = False


@dataclass(frozen=True, eq=False, repr=False)
class Form:
    """One form with all that it can do; what it cannot is ``None``.

    ``read`` gives the values at an address, every match where ``several``; ``about`` takes a
    reading of names and not of contents, also where nothing is there if ``of_nothing``. ``spots``
    lists the texts at an address that may hold ``*`` for any, and ``put`` changes them where they
    stand, the whole file anew where ``rewrites_whole``. ``value`` is what ``add`` replaces or adds:
    a value that need not be there yet. ``entries`` are those of an index, whose names are told
    without regard to case where ``folds_names``; ``entry_at`` says where the value of a name stands
    in all of them. ``one_is_list`` tells that a list of one is written as the one
    alone. ``tells`` says that it can tell where a place is. ``check_paths_at`` refuses an address
    that no paths can have, ``check_write_at`` one that no value can be written at.
    ``by_recipe`` tells that a recipe's own pattern or query is run. ``records`` is how it holds
    letters, contacts, bookmarks and the like, if it holds some; ``named`` is how it holds values
    that can be taken one by one.
    """

    name: str
    address: Address
    holder: Holder = "file"
    tells: bool = False
    several: bool = False
    by_recipe: bool = False
    of_nothing: bool = False
    rewrites_whole: bool = False
    folds_names: bool = False
    one_is_list: bool = False
    is_reading: bool = True
    holds_paths: bool = True
    read: Callable[[bytes, str], list[Located]] | None = None
    about: Callable[[Names], Raw] | None = None
    spots: Callable[[bytes, str], list[Spot]] | None = None
    put: Callable[[bytes, str, Mapping[str, str]], bytes] | None = None
    value: Callable[[bytes, str], Raw] | None = None
    add: Callable[[bytes, str, Scalar], bytes] | None = None
    entries: Callable[[bytes, str], list[Entry]] | None = None
    entry_at: Callable[[str, str], str] | None = None
    database: Database | None = None
    records: Records | None = None
    named: NamedValues | None = None
    check_paths_at: Callable[[str], str] | None = None
    check_write_at: Callable[[str], str] | None = None

    @property
    def in_file(self) -> bool:
        """Whether the values stand in a file."""
        return self.holder == "file"

    @property
    def is_store(self) -> bool:
        """Whether the values stand in a store of the system."""
        return self.holder in ("key", "settings")

    def can(self, role: Role) -> bool:
        """Return whether the form can be used for that."""
        changes = self.put is not None or self.database is not None or self.is_store
        match role:
            case "reading":
                return self.is_reading
            case "set_in":
                return self.tells
            case "paths":
                return changes and self.holds_paths
            case "index":
                return self.entries is not None or self.database is not None
            case "write":
                return changes
            case "records":
                return self.records is not None
            case "values":
                return self.named is not None


def put_each(
    data: bytes, changes: Mapping[str, str], add: Callable[[bytes, str, Scalar], bytes]
) -> bytes:
    """Return a file with each of ``changes`` added to it in turn."""
    for where, text in changes.items():
        data = add(data, where, text)
    return data


def insist_held(
    written: bytes,
    spots: Callable[[bytes, str], list[Spot]],
    at: str,
    changes: Mapping[str, str],
) -> bytes:
    """Return what was written, where it holds what it should.

    Raises:
        Unwritable: It holds something else.
    """
    now = {spot.where: spot.text for spot in spots(written, at)}
    if any(now.get(where) != text for where, text in changes.items()):
        raise Unwritable("would have another value once it is written")
    return written


def changed_alone(
    data: bytes,
    changes: Mapping[str, str | None],
    read: Callable[[bytes], dict[str, str]],
    change: Callable[[bytes, Mapping[str, str | None]], bytes],
) -> bytes:
    """Return a file as ``change`` gives it, where nothing but ``changes`` differs afterwards.

    What goes is taken away before what comes is set.

    Raises:
        Unwritable: Other values differ too, or some read back otherwise.
    """
    before = read(data)
    gone = {name: None for name, text in changes.items() if text is None and name in before}
    kept = {n: t for n, t in before.items() if n not in gone}
    come = {n: t for n, t in changes.items() if t is not None and kept.get(n) != t}
    written = change(change(data, gone) if gone else data, come) if gone or come else data
    wanted, now = {**kept, **come}, read(written)
    if now != wanted:
        differs = (n for n in (*wanted, *now) if wanted.get(n) != now.get(n))
        raise Unwritable(f"cannot hold these values beside its own: {min(differs)!r}")
    return written


def spliced(text: str, spans: Iterable[tuple[int, int, str]]) -> str:
    """Return a text with other texts in the place of what stood between each two marks."""
    for begin, end, told in sorted(spans, reverse=True):
        text = text[:begin] + told + text[end:]
    return text


def name_matches(name: str, pattern: str) -> bool:
    """Return whether a name is what a pattern says, in which only ``*`` stands for others."""
    plain = pattern.casefold().replace("[", "[[]")
    return fnmatchcase(name.casefold(), plain.replace("?", "[?]"))
