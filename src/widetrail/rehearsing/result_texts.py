"""Results of rehearsals as people read them: findings over all, and two print-outs side by side."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from itertools import zip_longest

from widetrail.findings import Finding
from widetrail.rehearsing.rehearsed import Rehearsed


def findings_of(results: Iterable[Rehearsed]) -> list[Finding]:
    """Return a warning for each recipe of which no rehearsal changes both user name and drive.

    Most of what breaks in a move breaks on paths, and a rehearsal that keeps them proves little.
    """
    changed: dict[str, set[str]] = {}
    both: set[str] = set()
    files: dict[str, str] = {}
    for result in results:
        if not result.recipes or not (result.moved or result.changed):
            continue
        recipe = result.recipes[0]
        files.setdefault(recipe, result.file)
        changed.setdefault(recipe, set()).update(result.changed)
        if {"user", "drive"} <= set(result.changed):
            both.add(recipe)
    found = []
    for recipe in sorted(changed.keys() - both):
        lacking = [what for what in ("user", "drive") if what not in changed[recipe]]
        words = {"user": "another user name", "drive": "another drive"}
        told = " and ".join(words[what] for what in lacking) or "both in one"
        message = (
            f"no rehearsal of {recipe} has {told} on the new computer, and paths break there first"
        )
        hint = "Say user or drives of the new computer, or have it keep its things on another drive"
        found.append(
            Finding(files[recipe], 1, 1, "same-paths", "", message, hint, severity="warning")
        )
    return found


def side_by_side(result: Rehearsed) -> Sequence[tuple[str, str, str]]:
    """Return both print-outs line beside line, with a mark where they differ.

    Lines that are the same stand beside each other, also after one that only one side has.
    """
    old, new = result.old_screen.splitlines(), result.new_screen.splitlines()
    rows: list[tuple[str, str, str]] = []
    for kind, a, b, c, d in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        mark = "" if kind == "equal" else "≠"
        pairs = zip_longest(old[a:b], new[c:d], fillvalue="")
        rows += [(mark, one, other) for one, other in pairs if one or other]
    return rows
