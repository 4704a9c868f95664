"""Registry values as types, and registry text (``.reg``, versions 4 and 5).

Version 5 is what current systems write: UTF-16 with a mark, and texts in ``hex(…)`` as UTF-16.
Version 4 (``REGEDIT4``) is in the system's single-byte encoding throughout.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import field
from functools import lru_cache

from widetrail.formats.interface import NotThere, Raw, Unreadable
from widetrail.formats.texts import decode
from widetrail.lazily import dataclass

TYPES = (
    "REG_NONE",
    "REG_SZ",
    "REG_EXPAND_SZ",
    "REG_BINARY",
    "REG_DWORD",
    "REG_DWORD_BIG_ENDIAN",
    "REG_LINK",
    "REG_MULTI_SZ",
    "REG_RESOURCE_LIST",
    "REG_FULL_RESOURCE_DESCRIPTOR",
    "REG_RESOURCE_REQUIREMENTS_LIST",
    "REG_QWORD",
)
"""Names of the value types, by their number (Windows, winnt.h)."""

HEAD = "Windows Registry Editor Version 5.00"

ITSELF = "@"
"""The name by which a key's own value is asked for."""

HIVES = {
    "HKLM": "HKEY_LOCAL_MACHINE",
    "HKCU": "HKEY_CURRENT_USER",
    "HKCR": "HKEY_CLASSES_ROOT",
    "HKU": "HKEY_USERS",
    "HKCC": "HKEY_CURRENT_CONFIG",
}


@dataclass(frozen=True, slots=True)
class RegistryValue:
    """A value: its name as written, the name of its type, its data as bytes, and its line."""

    name: str
    type: str
    data: bytes
    line: int = 0

    @property
    def plain(self) -> Raw:
        """The data as a text, number or list of texts; other types as hexadecimal text."""
        match self.type:
            case "REG_SZ" | "REG_EXPAND_SZ" | "REG_LINK":
                return wide_text(self.data).split("\0")[0]
            case "REG_MULTI_SZ":
                return [text for text in wide_text(self.data).split("\0") if text]
            case "REG_DWORD" | "REG_QWORD":
                return int.from_bytes(self.data, "little")
            case "REG_DWORD_BIG_ENDIAN":
                return int.from_bytes(self.data, "big")
        return self.data.hex()


def wide_text(data: bytes) -> str:
    return data[: len(data) & ~1].decode("utf-16-le", "replace")


def type_name(number: int) -> str:
    """Return the name of a value type, or ``REG_TYPE_…`` for one that has none."""
    return TYPES[number] if number < len(TYPES) else f"REG_TYPE_{number:x}"


def type_number(name: str) -> int:
    """Return the number of a value type; the inverse of ``type_name``."""
    return TYPES.index(name) if name in TYPES else int(name.removeprefix("REG_TYPE_"), 16)


def full_key(key: str, view: str = "64") -> str:
    """Return a key with the long name of its hive, as a program of that view sees it.

    Below ``HKEY_LOCAL_MACHINE\\Software`` programs of 32 bits see ``Wow6432Node``.
    """
    hive, _, rest = key.strip("\\").partition("\\")
    hive = HIVES.get(hive.upper(), hive.upper())
    first, _, below = rest.partition("\\")
    redirected = hive == "HKEY_LOCAL_MACHINE" and first.casefold() == "software"
    if view == "32" and redirected and not below.casefold().startswith("wow6432node"):
        rest = "\\".join(filter(None, [first, "Wow6432Node", below]))
    return "\\".join(filter(None, [hive, rest]))


def is_shared_by_accounts(key: str) -> bool:
    """Return whether a key lies in the part that all accounts share, which only an administrator
    changes."""
    return full_key(key).partition("\\")[0] == "HKEY_LOCAL_MACHINE"


@dataclass(slots=True)
class Key:
    """A key: its path as written, and its values by their name in small letters."""

    path: str
    values: dict[str, RegistryValue] = field(default_factory=dict)


class RegistryText:
    """A parsed ``.reg`` text; keys and names are found without regard to case."""

    def __init__(self, data: bytes) -> None:
        """Parse ``data``.

        Raises:
            Unreadable: It is not a registry text, with the line that is not.
        """
        self.keys: dict[str, Key] = {}
        self.text, self.codec = decode(data)
        begin, self.narrow = after_head(self.text)
        self._parse(begin)

    def find(self, key: str) -> Key | None:
        """Return a key, also one that only holds others, or ``None``."""
        folded = key.casefold()
        if folded in self.keys:
            return self.keys[folded]
        inner = f"{folded}\\"
        return Key(key) if any(k.startswith(inner) for k in self.keys) else None

    def below(self, key: str) -> tuple[Key, ...]:
        """Return a key and all those below it in the order of the text, each before those below it;
        what the text names only on the way to another is a key too."""
        folded, depth = key.casefold(), key.count("\\") + 1
        found: dict[str, Key] = {}
        for path, known in self.keys.items():
            if path == folded or path.startswith(f"{folded}\\"):
                names = known.path.split("\\")
                for number in range(depth, len(names) + 1):
                    above = "\\".join(names[:number])
                    one = self.keys.get(above.casefold()) or Key(above)
                    found.setdefault(above.casefold(), one)
        return tuple(found.values())

    def _parse(self, position: int) -> None:
        key: Key | None = None
        for entry, line in entries_in(self.text, position):
            if entry["key"] is not None:
                key = self._key(entry["key"], removed=bool(entry["minus"]))
            elif entry["name"] is not None:
                if key is None:
                    raise Unreadable(f"has a value before any key at line {line}")
                self._value(key, entry, line)

    def _key(self, path: str, *, removed: bool) -> Key:
        path = full_key(path)
        folded = path.casefold()
        if removed:
            for known in [k for k in self.keys if k == folded or k.startswith(f"{folded}\\")]:
                del self.keys[known]
            return Key(path)
        return self.keys.setdefault(folded, Key(path))

    def _value(self, key: Key, entry: re.Match[str], line: int) -> None:
        name = name_of(entry)
        if entry["gone"] is not None:
            key.values.pop(name.casefold(), None)
            return
        if entry["text"] is not None:
            value = registry_text(name, _unescape(entry["text"][1:-1]), line=line)
        elif entry["dword"] is not None:
            data = int(entry["dword"], 16).to_bytes(4, "little")
            value = RegistryValue(name, "REG_DWORD", data, line)
        else:
            number = int(entry["type"], 16) if entry["type"] else 3
            data = bytes.fromhex(re.sub(r"[^0-9A-Fa-f]", "", entry["hex"]))
            if self.narrow and number in (2, 7):
                data = data.decode("cp1252", "replace").encode("utf-16-le")
            value = RegistryValue(name, type_name(number), data, line)
        key.values[name.casefold()] = value


def registry_text(name: str, text: str, kind: str = "REG_SZ", line: int = 0) -> RegistryValue:
    """Return a value that is a text."""
    return RegistryValue(name, kind, f"{text}\0".encode("utf-16-le", "surrogatepass"), line)


_ENTRY = re.compile(
    r"""[ \t]* (?:
        ;[^\n]*
      | \[ (?P<minus>-?) (?P<key>[^\n]*) \]
      | (?P<name>@|"(?:[^"\\]|\\.)*") [ \t]* = [ \t]* (?P<value>
            (?P<text>"(?:[^"\\]|\\.)*")
          | dword: (?P<dword>[0-9A-Fa-f]{1,8})
          | hex (?:\((?P<type>[0-9A-Fa-f]{1,8})\))? :
            (?P<hex>(?:[0-9A-Fa-f]{2}|,|[ \t]|\\[ \t]*\r?\n)*)
          | (?P<gone>-)
        )
      |
    ) [ \t]* (?:;[^\n]*)? (?:\r?\n|\Z)""",
    re.VERBOSE | re.DOTALL,
)


def after_head(text: str) -> tuple[int, bool]:
    """Return where the first line of a registry text ends, and whether it is of version 4."""
    head = text.partition("\n")[0]
    told = head.strip().lstrip("\ufeff")
    if told not in ("REGEDIT4", HEAD):
        raise Unreadable("is not a registry text: its first line is neither version's")
    return min(len(head) + 1, len(text)), told == "REGEDIT4"


def entries_in(text: str, position: int) -> Iterator[tuple[re.Match[str], int]]:
    """Give each line or value of a registry text with the line it begins on."""
    line = 2
    while position < len(text):
        entry = _ENTRY.match(text, position)
        if entry is None:
            found = text[position:].split("\n", 1)[0][:60].strip()
            raise Unreadable(f"is not a registry text at line {line}: {found}")
        yield entry, line
        line += entry.group(0).count("\n")
        position = entry.end()


def name_of(entry: re.Match[str]) -> str:
    return "" if entry["name"] == "@" else _unescape(entry["name"][1:-1])


def _unescape(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text, flags=re.DOTALL)


# Writing


@lru_cache(maxsize=4)
def _parsed(data: bytes) -> RegistryText:
    return RegistryText(data)


def registry_key(data: bytes, key: str) -> Key:
    """Return a key of a ``.reg`` text.

    Raises:
        Unreadable: It is not a registry text.
        NotThere: It has no such key.
    """
    found = _parsed(data).find(key)
    if found is None:
        raise NotThere(f"has no key {key}")
    return found


def registry_tree(data: bytes, key: str) -> tuple[Key, ...]:
    """Return a key of a ``.reg`` text and all keys below it, as ``RegistryText.below``.

    Raises:
        Unreadable: It is not a registry text.
        NotThere: It has no such key.
    """
    found = _parsed(data).below(key)
    if not found:
        raise NotThere(f"has no key {key}")
    return found
