"""Making a field report of a parcel: all that tells how it went, and no name of the person's."""

from __future__ import annotations

import getpass
import platform as system_platform
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, suppress
from datetime import datetime
from typing import Any, NamedTuple

from widetrail import __version__
from widetrail.errors import Waiting, WideTrailError
from widetrail.field.field_file import FieldFile, FieldRecipe
from widetrail.field.made_up_names import MadeUpNames
from widetrail.field.masking import Masking
from widetrail.field.own_words import own_words
from widetrail.finding import find_application
from widetrail.lazily import dataclass
from widetrail.machine import Entry, Machine
from widetrail.machine.paths import base
from widetrail.parcel import Parcel
from widetrail.recipe import Loaded
from widetrail.steps import CargoEntry
from widetrail.walking import Visit

MOST = 5000
"""Names below one place that are told, at most."""

_DROPPED = frozenset({"before", "card", "seal", "index", "segments", "run", "number"})
"""Keys of entries that tell of contents, and nothing of how it went."""

_DIGESTS = frozenset({"generation", "sha256", "identity", "digest", "plan"})
"""Keys at which digests and numbers of computers stand."""


_EVERYBODYS = frozenset({"root", "Administrator", "localhost"})
"""Names of accounts and computers that systems have by themselves: they tell of nobody."""


@dataclass(frozen=True)
class SeenHere:
    """What is found out for a report beside the parcel: the machine it is made on, if that is one
    of the move, and what a walk is refused for there now."""

    visit: Visit | None = None
    refused: WideTrailError | None = None


def hidden_names(parcel: Parcel, machine: Machine | None) -> list[str]:
    """Return the names that stand nowhere in a report: of accounts and computers."""
    found = [system_platform.node(), *_own_account()]
    for station in parcel.plan.stations:
        found += [station.machine, station.facts.get("user", "")]
        found += [base(station.roots[name]) for name in ("home",) if name in station.roots]
    if machine is not None:
        found += [machine.name, machine.facts().get("user", ""), base(machine.root("home"))]
    return [name for name in dict.fromkeys(found) if name and name not in _EVERYBODYS]


def _own_account() -> list[str]:
    with suppress(OSError, KeyError):
        return [getpass.getuser()]
    return []


def make_field_report(
    parcel: Parcel, recipes: Sequence[Loaded], names: MadeUpNames, found: SeenHere
) -> FieldFile:
    """Return the report of a parcel; nothing is changed.

    ``names`` are told what becomes of each name.

    Raises:
        ParcelUnusable: Something of the parcel cannot be read.
    """
    masking = Masking(names, own_words())
    visit = found.visit
    told: dict[str, Any] = {
        "plan": parcel.plan.model_dump(mode="json"),
        "logbook": _logbook(parcel),
        "journal": [_told(r.plain()) for r in visit.journal.records] if visit is not None else [],
        "refused": found.refused.as_json() if found.refused is not None else None,
        "releases": _releases(visit, recipes),
        "packed": {item: _listed(entries) for item, entries in _packed(parcel).items()},
        "there": {item: _listed(entries) for item, entries in _there(parcel, visit).items()},
    }
    masking.values(told)  # so that each name is known before the first sentence is written
    masked = masking.values(told)
    return FieldFile(
        widetrail=__version__,
        python=system_platform.python_version(),
        system=system_platform.system(),
        here=visit.station.station if visit is not None else None,
        recipes=tuple(
            FieldRecipe(id=one.id, revision=one.recipe.revision, sha256=one.digest, text=one.text)
            for one in recipes
        ),
        **masked,
    )


def _logbook(parcel: Parcel) -> list[dict[str, Any]]:
    begun = datetime.fromisoformat(parcel.generations[0].body.time)

    def entries() -> Iterator[dict[str, Any]]:
        for generation in parcel.generations:
            body = generation.body.plain()
            plain = _told({k: v for k, v in body.items() if k not in _DROPPED and k != "files"})
            if isinstance(when := plain.pop("time", None), str) and when:
                plain["after"] = round((datetime.fromisoformat(when) - begun).total_seconds())
            yield plain

    return list(entries())


def _told(value: Any) -> Any:
    """Return a plain value without digests."""
    if isinstance(value, Mapping):
        return {k: _told(v) for k, v in value.items() if k not in _DIGESTS}
    return [_told(one) for one in value] if isinstance(value, list | tuple) else value


def _packed(parcel: Parcel) -> dict[str, list[_Named]]:
    """Return what is packed by item, as far as that can be read: not where it is sealed."""
    try:
        with closing(parcel.reader("linux")) as packed:
            return {i.id: [_named(e) for e in packed.of(i.id)] for i in parcel.plan.items}
    except Waiting:
        return {}


def _there(parcel: Parcel, visit: Visit | None) -> dict[str, list[_Named]]:
    """Return what lies in the place of each item on this machine now, if it is one of the move."""
    if visit is None:
        return {}
    found = {}
    for item in parcel.plan.placed:
        path = item.path_at(visit.station.station)
        with suppress(WideTrailError):  # what cannot be looked into here is not told
            entry = visit.machine.look(path) if path and "\\" not in path else None
            if entry is not None:
                below = visit.machine.walk(path) if entry.kind == "folder" else [entry]
                found[item.id] = [_named(one) for one in below]
    return found


def _releases(visit: Visit | None, recipes: Sequence[Loaded]) -> dict[str, dict[str, str]]:
    """Return release and edition of each program on this machine, if it is one of the move."""
    if visit is None:
        return {}
    found = {}
    for loaded in recipes:
        here = find_application(visit.machine, loaded).installation
        if here is not None:
            told = {"release": str(here.release or ""), "edition": here.edition}
            found[loaded.id] = {what: value for what, value in told.items() if value}
    return found


class _Named(NamedTuple):
    """A name below a place."""

    path: str
    kind: str
    size: int


def _named(entry: Entry | CargoEntry) -> _Named:
    kind = {"hard": "file"}.get(entry.kind, entry.kind)
    return _Named(entry.path, kind, entry.size)


def _listed(entries: Sequence[_Named]) -> dict[str, Any]:
    names = [one._asdict() for one in entries[:MOST]]
    return {"names": names, "left_out": max(0, len(entries) - MOST)}
