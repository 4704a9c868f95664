"""Findings as text: which are shown, and the line that one is at."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Mapping
from pathlib import Path

from widetrail.findings import Finding
from widetrail.formats.texts import for_people

Found = Mapping[Path, tuple[Finding, ...]]
"""The findings of each file that was looked at."""


def in_source(finding: Finding, lines: list[str]) -> list[str]:
    """Return the line that a finding is at, with a caret below; nothing where there is none."""
    if not 0 < finding.line <= len(lines):
        return []
    number, source = f"{finding.line:>5} | ", lines[finding.line - 1].rstrip()
    before = for_people(source[: max(0, finding.column - 1)].replace("\t", " "))
    columns = sum(_columns(sign) for sign in before)
    shown = for_people(source.replace("\t", " "))
    return [f"{number}{shown}", f"{'| ':>{len(number)}}{' ' * columns}^"]


def _columns(sign: str) -> int:
    """Return how many columns of a terminal a character takes."""
    if unicodedata.combining(sign):
        return 0
    return 2 if unicodedata.east_asian_width(sign) in "WF" else 1


def chosen(
    found: Found, only: Iterable[str] = (), without: Iterable[str] = ()
) -> dict[Path, tuple[Finding, ...]]:
    """Return the findings of codes that are wanted: all, or those ``only``, but not those
    ``without``."""
    wanted, unwanted = set(only), set(without)
    return {
        file: tuple(f for f in some if (not wanted or f.rule in wanted) and f.rule not in unwanted)
        for file, some in found.items()
    }
