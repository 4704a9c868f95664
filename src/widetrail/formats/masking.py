"""Secrets kept out of what is shown and written, by value and in all their spellings."""

from __future__ import annotations

import base64
import html
import json
import re
import shlex
import unicodedata
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote, quote_plus

SHORT = 4
"""A secret of fewer characters is masked only where it stands alone: else every text breaks."""

BETWEEN = re.compile(r"\r?\n| / |\\x00|\x00")
"""What may stand between the characters of a secret: programs break lines where they like, which
are told in one, and some write two bytes a character."""

PIECES_MOST = 512
"""Characters of a secret that is found in pieces, at most."""

CUT_LEAST = 6
"""Characters of a piece of a secret that is masked, at least; it is half of it or more."""


class Masker:
    """Masks the secrets it was told, each by its name."""

    def __init__(self) -> None:
        self._names: dict[str, str] = {}
        self._pattern: re.Pattern[str] | None = None
        self._long: re.Pattern[str] | None = None

    def add(self, name: str, value: str) -> None:
        """Mask ``value`` from now on as ``‹name›``."""
        for spelling in (s for line in {value, *value.splitlines()} for s in _spellings(line)):
            self._names.setdefault(spelling.casefold(), name)
        longest_first = sorted(self._names, key=len, reverse=True)
        long = [spelling for spelling in longest_first if len(spelling) >= SHORT]
        self._pattern = re.compile("|".join(map(_found_as, longest_first)), re.IGNORECASE)
        self._long = re.compile("|".join(map(_found_as, long)), re.IGNORECASE) if long else None

    def mask(self, text: str) -> str:
        """Return ``text`` without any secret."""
        if self._pattern is None:
            return text
        text = self._pattern.sub(lambda found: self._shown(found[0]), text)
        if self._long is None or BETWEEN.search(text) is None:
            return text
        return self._mask_broken(text, self._long)

    def _mask_broken(self, text: str, pattern: re.Pattern[str]) -> str:
        """Mask what is one only without what stands between its characters."""
        at: list[int] = []
        end = 0
        for between in BETWEEN.finditer(text):
            at.extend(range(end, between.start()))
            end = between.end()
        at.extend(range(end, len(text)))
        masked, end = [], 0
        for found in pattern.finditer("".join(text[n] for n in at)):
            masked += [text[end : at[found.start()]], self._shown(found[0])]
            end = at[found.end() - 1] + 1
        return "".join([*masked, text[end:]])

    def _shown(self, found: str) -> str:
        return f"‹{self._names.get(found.casefold(), 'secret')}›"

    def mask_texts(self, value: Any) -> Any:
        """Return a plain JSON value with every text in it masked, keys too; numbers stay."""
        match value:
            case str():
                return self.mask(value)
            case list() | tuple():
                return [self.mask_texts(v) for v in value]
            case dict():
                return {self.mask(k): self.mask_texts(v) for k, v in value.items()}
        return value

    def mask_all(self, value: Any) -> Any:
        """Return a plain JSON value with every text and number in it masked, keys too."""
        match value:
            case str():
                return self.mask(value)
            case list() | tuple():
                return [self.mask_all(v) for v in value]
            case dict():
                return {self.mask(k): self.mask_all(v) for k, v in value.items()}
            case int() | float() if not isinstance(value, bool) and self.mask(str(value)) != str(
                value
            ):
                return self.mask(str(value))
        return value


def _found_as(spelling: str) -> str:
    escaped = re.escape(spelling)
    return rf"(?<!\w){escaped}(?!\w)" if len(spelling) < SHORT else escaped


def _spellings(value: str) -> Iterator[str]:
    """Give the ways in which programs write a text: quoted, escaped and encoded."""
    for form in ("NFC", "NFD"):
        for text in {unicodedata.normalize(form, v) for v in (value, value.strip())}:
            if not text:
                continue
            data = text.encode("utf-8", "surrogateescape")
            yield from (text, json.dumps(text)[1:-1], json.dumps(text, ensure_ascii=False)[1:-1])
            yield from (quote(data, safe=""), quote(data), quote_plus(data))
            yield from (html.escape(text), html.escape(text, quote=False), shlex.quote(text))
            yield from (repr(text)[1:-1], text.replace("'", "''"), text.replace('"', '""'))
            if len(text) <= PIECES_MOST:  # it is cut off where a line or a field ends
                least = max(CUT_LEAST, (len(text) + 1) // 2)
                for length in range(least, len(text), 1 + len(text) // 64):
                    yield from (text[:length], text[-length:])
            wide = [text.encode(f"utf-16-{order}", "surrogatepass") for order in ("le", "be")]
            yield from (raw.decode("latin-1") for raw in wide)
            yield " ".join(text)
            for raw in (data, *wide):
                yield from _as_bytes(raw)


def _as_bytes(data: bytes) -> Iterator[str]:
    """Give the ways in which programs write bytes; base64 also within another text's."""
    yield from (
        f"{between}".join(f"{byte:02x}" for byte in data) for between in ("", " ", ",", ":")
    )
    yield "".join(f"%{byte:02x}" for byte in data)
    yield "".join(f"\\x{byte:02x}" for byte in data)
    yield repr(data)[2:-1]
    for encode in (base64.b64encode, base64.urlsafe_b64encode):
        yield encode(data).decode()
        yield encode(data).decode().rstrip("=")
        for before in range(3):  # what stands before it shifts it, and its ends mix with others
            if len(data) > SHORT + 2:
                inner = encode(b"\0" * before + data).decode().rstrip("=")
                begin = (before * 8 + 5) // 6
                yield inner[begin : len(inner) - (1 if (before + len(data)) % 3 else 0)]
