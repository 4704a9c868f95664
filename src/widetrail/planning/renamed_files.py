"""Names that the new machine cannot hold, and what they become there."""

from __future__ import annotations

from collections.abc import Iterable

from widetrail.formats import digest
from widetrail.formats.companions import database_of
from widetrail.machine import Entry
from widetrail.machine.paths import key, trouble_with_name
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.platforms.rules import LONGEST


def changed_names(entries: Iterable[Entry], platform: Platform) -> dict[str, str]:
    """Return the new path of each entry that cannot be called so on ``platform``.

    Names that differ only in what the platform does not tell apart (case, the form of accents)
    get a number; characters it does not have, reserved names and bytes that are no text are
    percent-encoded (RFC 3986, section 2.1); what is too long is cut. What lies in a folder that
    is called otherwise goes with it. The first of two that collide, in the order of names, stays.
    """
    if _all_fit(entries, platform):
        return {}
    becomes: dict[str, str] = {}
    taken: set[str] = set()
    for entry in sorted(entries, key=lambda e: e.path):
        folder, _, name = entry.path.rpartition("/")
        above = becomes.get(folder, folder)
        fitted = _fitted(name, platform)
        path = f"{above}/{fitted}" if above else fitted
        database, ending = database_of(entry.path)
        if database in becomes:  # a journal is called after its database
            path = f"{becomes[database]}{ending}"
        number = 2
        while key(path, platform) in taken:
            path = f"{above}/{numbered(fitted, number)}" if above else numbered(fitted, number)
            number += 1
        taken.add(key(path, platform))
        if path != entry.path:
            becomes[entry.path] = path
    return becomes


def _all_fit(entries: Iterable[Entry], platform: Platform) -> bool:
    """Return whether all can be called as they are, as they mostly can: then not all of them are
    held at once. Entries come folder by folder."""
    folds, within = PLATFORMS[platform].ignores_case, list[tuple[str, set[str]]]()
    for entry in entries:
        folder, _, name = entry.path.rpartition("/")
        if _trouble(name, platform):
            return False
        if not folds:
            continue
        while within and within[-1][0] and not f"{folder}/".startswith(f"{within[-1][0]}/"):
            within.pop()
        if not within or within[-1][0] != folder:
            within.append((folder, set()))
        known, mine = within[-1][1], key(name, platform)
        if mine in known:
            return False
        known.add(mine)
    return True


def _fitted(name: str, platform: Platform) -> str:
    if not _trouble(name, platform):
        return name
    rules = PLATFORMS[platform]
    fitted = rules.fit_name(name)
    if rules.names_are_text:
        fitted = "".join(c if c.isprintable() or ord(c) < 0xDC80 else _encoded(c) for c in fitted)
    if _trouble(fitted, platform):
        stem, dot, ending = fitted.rpartition(".") if "." in fitted[1:] else (fitted, "", "")
        mark = f"~{digest(name.encode('utf-8', 'surrogateescape'))[:8]}"
        room = LONGEST - len(f"{mark}{dot}{ending}".encode("utf-8", "surrogateescape"))
        cut = stem.encode("utf-8", "surrogateescape")[: max(room, 1)]
        fitted = f"{cut.decode('utf-8', 'ignore')}{mark}{dot}{ending}"
    return fitted


def _trouble(name: str, platform: Platform) -> bool:
    no_text = PLATFORMS[platform].names_are_text and any("\udc80" <= c <= "\udcff" for c in name)
    return no_text or bool(trouble_with_name(name, platform))


def _encoded(char: str) -> str:
    return "".join(f"%{byte:02X}" for byte in char.encode("utf-8", "surrogateescape"))


def numbered(name: str, number: int) -> str:
    """Return a name with a number before its ending."""
    stem, dot, ending = name.rpartition(".") if "." in name[1:] else (name, "", "")
    return f"{stem} ({number}){dot}{ending}"
