"""Findings: what validation has to say about one line of one file."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from widetrail.lazily import dataclass
from widetrail.old_words import renamed


@dataclass(frozen=True, order=True)
class Finding:
    """One thing wrong with, or worth knowing about, one place in a file.

    ``line`` and ``column`` count from 1; 0 means the file as a whole. ``where`` is the path of
    keys inside the document, such as ``items.specimens.existing``.
    """

    file: str
    line: int
    column: int
    rule: str
    where: str
    message: str
    hint: str = ""
    severity: Literal["error", "warning"] = "error"

    def __str__(self) -> str:
        spot = f"{self.file}:{self.line}:{self.column}" if self.line else self.file
        label = "" if self.severity == "error" else f"{self.severity}: "
        where = f"{self.where}: " if self.where else ""
        hint = f". {self.hint}" if self.hint else ""
        return f"{spot}: {label}{where}{self.message}{hint}"

    def as_json(self) -> dict[str, object]:
        """Return the finding as plain JSON values, keyed as the attributes are."""
        return dict(vars(self))


MOST = 200
"""Findings of one file that are told; what is said beyond that nobody reads."""


def capped(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Return findings in order, each once, and no more than ``MOST`` of a file; one more then tells
    that these are not all."""
    found = tuple(dict.fromkeys(sorted(findings)))
    if len(found) <= MOST:
        return found
    told = sorted(found, key=lambda f: f.severity != "error")[:MOST]
    more = f"there are more findings; the first {MOST} are shown"
    return (*sorted(told), Finding(found[0].file, 0, 0, "more-findings", "", more))


def errors_of(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Return only the findings that make a document unusable."""
    return tuple(f for f in findings if f.severity == "error")


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """Return a hint that names the new word for an old one, the nearest known word, or nothing."""
    words = list(known)
    from difflib import get_close_matches  # most words are known

    near = get_close_matches(word, words, n=1, cutoff=0.6)
    return renamed(word, words) or (f'Did you mean "{near[0]}"?' if near else "")
