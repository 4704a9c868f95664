"""Made-up names in the place of a person's: consistent, of the same shape, and told nowhere else.

A name keeps what decides whether a system can hold it: its length, capitals, digits, spaces and
signs, its ending where that is a usual one, how many bytes each letter takes, and which names
differ in capitals or composition only. Its letters are drawn by a salt that never leaves the
computer, and which name became which is kept beside that salt.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import mimetypes
import re
import secrets
import unicodedata
from collections.abc import Container, Iterable, Iterator, Mapping
from pathlib import Path

from widetrail.errors import InputUnusable, not_written
from widetrail.formats.documents import read_document
from widetrail.machine.own_folders import own_state
from widetrail.machine.platforms.windows import is_device

FILE = "made-up-names.json"
"""The file of the salt and the map, below our own state folder."""

_ENDINGS = frozenset(mimetypes.types_map) | {
    *(".bak", ".cfg", ".conf", ".db", ".docx", ".ini", ".lock", ".log", ".ods", ".odt", ".plist"),
    *(".pptx", ".sqlite", ".tmp", ".toml", ".xlsx", ".yaml"),
}
"""Endings that are nobody's own, which stay."""

_LARGEST = 16 * 2**20
_WORD = re.compile(r"\w+(?:[.\-_']\w+)*")
_PATH = re.compile(r"([A-Za-z]:)?[\\/]|HKEY_\w+\\")
_TURNS = 1000
_SHORTEST = 3
"""Letters of a name that is looked for in sentences, at least: shorter ones stand in any."""


class MadeUpNames:
    """Gives names for a person's, the same one each time."""

    def __init__(self, salt: bytes, known: Mapping[str, str], public: Iterable[str]) -> None:
        """``known`` are the names that were given before; ``public`` are those of recipes and
        systems, which stay as they are."""
        self._salt, self.known = salt, dict(known)
        self._public = frozenset(public)
        self._endings = _ENDINGS | {one for one in self._public if one.startswith(".")}
        self._given = set(self.known.values())
        self._turns: dict[str, int] = {}
        self._always: set[str] = set()
        self._pattern: tuple[int, re.Pattern[str] | None] = (-1, None)

    @property
    def salt(self) -> bytes:
        """What the letters are drawn by."""
        return self._salt

    def hide(self, names: Iterable[str]) -> None:
        """Have names replaced wherever they stand, also where a recipe has the same word."""
        for name in names:
            if name:
                self._always.add(name)
                self._drawn(name)

    def name(self, name: str) -> str:
        """Return what a name becomes: of a file, a folder, a key, an account."""
        if name in self._always:
            return self.known[name]
        plain = name in ("", ".", "..") or re.fullmatch("[A-Za-z]:", name) or is_device(name)
        if plain or name in self._public:
            return name
        return self._drawn(name)

    def path(self, path: str) -> str:
        """Return what a path, whole or relative, becomes."""
        return "".join(one if one in "\\/" else self.name(one) for one in _parts(path))

    def sentence(self, text: str, words: frozenset[str]) -> str:
        """Return a text in which each name, and each word that is none of ``words``, is another."""
        pattern = self._names_pattern()
        if pattern is not None:
            text = pattern.sub(lambda found: self.known[found[0]], text)
        return _WORD.sub(lambda found: self._word(found[0], words), text)

    def value(self, text: str, words: frozenset[str]) -> str:
        """Return what any text becomes: a path, or a sentence."""
        if _PATH.match(text) and "\n" not in text:
            return self.path(text)
        return self.sentence(text, words)

    def is_of(self, text: str, words: frozenset[str]) -> bool:
        """Return whether every word of a text is public or one of ``words``, or a small number."""
        return all(self._is_known(found[0], words) for found in _WORD.finditer(text))

    def _is_known(self, word: str, words: frozenset[str]) -> bool:
        if word in self._public or word.casefold() in words:
            return True
        parts = re.split(r"[.\-_']", word)
        return all(
            p in self._public or p.casefold() in words or (p.isdecimal() and len(p) <= _SHORTEST)
            for p in parts
        )

    def _word(self, word: str, words: frozenset[str]) -> str:
        if word in self._given or self._is_known(word, words):
            return word
        return self._drawn(word)

    def _names_pattern(self) -> re.Pattern[str] | None:
        """Return what finds the names that are known in a sentence, the longest first."""
        count, pattern = self._pattern
        if count != len(self.known):
            told = sorted(
                (n for n in self.known if len(n) >= _SHORTEST or n in self._always),
                key=lambda name: (-len(name), name),
            )
            joined = "|".join(map(re.escape, told))
            pattern = re.compile(rf"(?<!\w)(?:{joined})(?!\w)") if told else None
            self._pattern = (len(self.known), pattern)
        return pattern

    def _drawn(self, name: str) -> str:
        """Return the made-up name of ``name``, drawn the first time."""
        if name in self.known:
            return self.known[name]
        stem = _stem(name, self._endings)
        if stem != name and stem not in self._public and not is_device(stem):
            made = self._drawn(stem) + name[len(stem) :]  # whatever has the same stem has it again
            if not self._is_taken(made):
                return self._keep(name, made)
        key = _key(name)  # names that differ in capitals or composition only differ so again
        made = name
        for turn in range(self._turns.get(key, 0), _TURNS):
            made = _shaped(stem, _letters(self._salt, key, turn)) + name[len(stem) :]
            if not self._is_taken(made) and made != name:
                self._turns[key] = turn
                break
        return self._keep(name, made)

    def _is_taken(self, made: str) -> bool:
        return made in self._given or made in self.known or made in self._public

    def _keep(self, name: str, made: str) -> str:
        self.known[name] = made
        self._given.add(made)
        return made


def _parts(path: str) -> list[str]:
    return [one for one in re.split(r"([\\/])", path) if one]


def _key(name: str) -> str:
    """Return what names have alike that some systems cannot tell apart."""
    return unicodedata.normalize("NFC", name).casefold()


def _letters(salt: bytes, key: str, turn: int) -> Iterator[int]:
    """Give numbers without end, which only who has the salt can reckon again."""
    number = 0
    while True:
        told = f"{turn} {number} {key}".encode("utf-8", "surrogateescape")
        yield from hmac.digest(salt, told, hashlib.sha256)
        number += 1


def _stem(name: str, endings: Container[str]) -> str:
    """Return a name without its ending, if that is one of ``endings``, which stay."""
    stem, _, ending = name.rpartition(".")
    return stem if stem and f".{ending.lower()}" in endings else name


def _shaped(stem: str, drawn: Iterator[int]) -> str:
    """Return another name of the same shape; one that is shorter than any name in a sentence gets
    more letters, since it would be that of somebody else's file too soon."""
    composed = unicodedata.normalize("NFC", stem)
    made = "".join(_other(letter, next(drawn)) for letter in composed)
    if composed != stem:
        made = unicodedata.normalize("NFD", made)
    more = "".join(_other("x", next(drawn)) for _ in range(_SHORTEST + 1 - len(composed)))
    return f"{made}{more}"


def _other(letter: str, drawn: int) -> str:
    """Return another letter that takes as many bytes and is of the same kind."""
    if letter.isdecimal() and letter.isascii():
        return str(drawn % 10)
    if letter.isascii():
        if not letter.isalpha():
            return letter
        other = chr(ord("a") + drawn % 26)
        return other.upper() if letter.isupper() else other
    kind = unicodedata.category(letter)
    if not kind.startswith("L"):
        return letter
    alike = [one for one in _ALIKE if _shape(one) == _shape(letter)]
    return alike[drawn % len(alike)] if alike else _ALIKE[drawn % 8]


def _shape(letter: str) -> tuple[str, int, bool]:
    """Return what is kept of a letter: its kind, its bytes in UTF-8, and whether it comes apart."""
    width = len(letter.encode("utf-8", "surrogatepass"))
    apart = unicodedata.normalize("NFD", letter) != letter
    return unicodedata.category(letter), width, apart


_ALIKE = (
    "äöüàéèêëíóúñçåżčřšžÄÖÜÀÉÈÊËÍÓÚÑÇÅŻČŘŠŽøæłđßœØÆŁĐŒαβγδεζηθΑΒΓΔΕиклмнабвгдИКЛМНА"
    "ḍḥḷṃṇṛṣṭẓḌḤḶṂṆṚṢṬẒ日月火水木金土山川田กขคงจഅആ"
    "𐐨𐐩𐐪𐐫𐐀𐐁𐐂𐐃𠀀𠀁𠀂"
)
"""Letters that stand for others of their shape."""


def load_names(public: Iterable[str], hidden: Iterable[str]) -> MadeUpNames:
    """Return the names that were made up on this computer, or begin with a new salt.

    Raises:
        InputUnusable: The file that keeps them cannot be read.
    """
    path = own_state() / FILE
    told: Mapping[str, object] = {"salt": secrets.token_hex(32), "names": {}}
    if path.exists():
        try:
            told = json.loads(read_document(path, most=_LARGEST, named=False))
            salt, names = bytes.fromhex(str(told["salt"])), told["names"]
        except (ValueError, KeyError, TypeError, RecursionError) as error:
            raise InputUnusable("cannot be read", where=str(path), why="it is damaged") from error
    else:
        salt, names = bytes.fromhex(str(told["salt"])), told["names"]
    known = {str(k): str(v) for k, v in names.items()} if isinstance(names, dict) else {}
    made = MadeUpNames(salt, known, public)
    made.hide(hidden)
    return made


def store_names(names: MadeUpNames) -> Path:
    """Keep which names were given on this computer, for its account alone; return where.

    Raises:
        InputUnusable: The system refuses.
    """
    path = own_state() / FILE
    data = json.dumps({"salt": names.salt.hex(), "names": names.known}, ensure_ascii=True)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(0o600)
        path.write_text(f"{data}\n", encoding="utf-8")
    except OSError as error:
        raise not_written(path, error) from error
    return path
