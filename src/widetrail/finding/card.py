"""The card: a small file of facts that stands in for a machine that is out of reach.

It is canonical JSON with the SHA-256 of its facts, so that a card that was edited or cut is told::

    {"card": 1, "facts": {machine, identity, platform, system, user, administrator, roots,
     disks, shares, applications: [{id, recipe, installations, places}]}, "sha256": …}

No reading's value is on it but releases and editions: it tells where things would go, not what is
in them.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path

from pydantic import Field, field_validator

from widetrail.errors import InputUnusable
from widetrail.finding.recipe_survey import Surveyed, survey
from widetrail.finding.recognising import find_application
from widetrail.finding.values import (
    Absent,
    Found,
    Held,
    How,
    Installation,
    Instance,
    Nowhere,
    Rule,
    Several,
    Where,
)
from widetrail.formats import canonical, digest
from widetrail.formats.documents import read_document
from widetrail.formats.stored_values import Count, Text, Told, Truth, plain_values, why_not
from widetrail.machine import Machine
from widetrail.machine.platforms import PlatformName
from widetrail.recipe import Loaded
from widetrail.recipe.places import PlaceKind
from widetrail.recipe.templates import ROOTS

MOST = 16 * 1024 * 1024


def make_card(machine: Machine, recipes: Iterable[Loaded], *, ask_programs: bool = False) -> bytes:
    """Return the card of ``machine`` for ``recipes``, as the bytes of its file."""
    loaded = list(recipes)
    roots = {name: machine.root(name) for name in sorted(ROOTS)}
    room = machine.room(machine.root("home"))
    found = survey(machine, loaded, ask_programs=ask_programs)
    facts: dict[str, object] = {
        "machine": machine.name,
        "identity": machine.identity,
        **machine.facts(),
        "administrator": machine.administrator,
        "network": machine.network,
        "roots": roots,
        "disks": list(machine.disks()),
        "shares": [list(share) for share in machine.shares()],
        "home disk": {"volume": room.volume, "free": room.free},
        "applications": [
            {**_application(s, machine, source), "recipe": source.digest}
            for s, source in zip(found, loaded, strict=True)
        ],
    }
    return canonical({"card": 1, "facts": facts, "sha256": digest(canonical(facts))}) + b"\n"


def read_card(path: Path) -> CardFacts:
    """Return the facts of the card at ``path``.

    Raises:
        InputUnusable: It cannot be read, is not a card, or was changed since it was written.
    """
    return card_facts(read_document(path), str(path))


def card_facts(data: bytes, where: str) -> CardFacts:
    """Return the facts of a card from the bytes of its file; ``where`` is named in errors.

    Raises:
        InputUnusable: It is not a card, or was changed since it was written.
    """
    todo = "Write it again on that machine with `widetrail card`."
    try:
        document = json.loads(data)
        if len(data) > MOST or document["card"] != 1 or not isinstance(document["facts"], dict):
            raise ValueError("another version")
        facts = document["facts"]
        sound = document["sha256"] == digest(canonical(facts))
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise InputUnusable("is not a card", where=where, todo=todo) from error
    if not sound:
        why = "its checksum does not match"
        raise InputUnusable("the card was changed", where=where, why=why, todo=todo)
    try:
        return CardFacts.model_validate(plain_values(facts))
    except (ValueError, RecursionError) as error:
        raise InputUnusable("is not a card", where=where, why=why_not(error), todo=todo) from error


class CardInstallation(Told):
    """One installation, as a card tells it."""

    case: Count
    sign: Text
    release: Text | None
    edition: Text | None
    unknown: list[Text]


class _Somewhere(Told):
    path: Text
    kind: PlaceKind
    there: Truth
    synced: Text | None
    rule: Rule
    case: Count
    source: Text | None
    line: Count | None
    among: list[Text]

    @property
    def where(self) -> Where:
        how = How(self.rule, self.case, self.source or "", self.line or 0, tuple(self.among))
        if self.there:
            return Found(self.path, self.kind, how, self.synced or "")
        return Absent(self.path, self.kind, how)


class _Nowhere(Told):
    path: None
    reason: Text

    @property
    def where(self) -> Where:
        return Nowhere(self.reason)


class _Instance(Told):
    path: Text
    name: Text
    in_use: Truth | None = Field(alias="in use")
    synced: Text | None
    kind: PlaceKind = "folder"


class _Several(Told):
    several: list[_Instance]
    source: Text | None

    @property
    def where(self) -> Where:
        how = How("index", source=self.source or "")
        listed = (
            Instance(i.path, i.name, i.in_use, how, i.synced or "", i.kind) for i in self.several
        )
        return Several(tuple(listed), source=self.source or "")


class CardApplication(Told):
    """What a card tells of one recipe's application; ``recipe`` is the digest of that."""

    id: Text
    name: Text
    recipe: Text
    installations: list[CardInstallation]
    places: dict[Text, _Several | _Somewhere | _Nowhere]


class _HomeDisk(Told):
    volume: Text
    free: Count


class CardFacts(Told):
    """What is on a card."""

    machine: Text
    identity: Text
    platform: PlatformName
    system: Text
    user: Text
    administrator: Truth
    network: Truth
    roots: dict[Text, Text]
    disks: list[Text]
    shares: list[tuple[Text, Text]] = Field(default_factory=list)
    home_disk: _HomeDisk = Field(alias="home disk")
    applications: list[CardApplication]

    @field_validator("roots")
    @classmethod
    def _all_of_them(cls, roots: dict[str, str]) -> dict[str, str]:
        if missing := sorted(ROOTS - roots.keys()):
            raise ValueError(f"it lacks {', '.join(missing)}")
        return roots


def _application(surveyed: Surveyed, machine: Machine, loaded: Loaded) -> dict[str, object]:
    """Return what a card tells of an application, and where its places would be if it is not there:
    another program's may be among them."""
    places = surveyed.places
    if surveyed.installation is None:
        finder = find_application(machine, loaded)
        places = tuple((name, finder.place(name)) for name in loaded.recipe.places)
    return {
        "id": surveyed.id,
        "name": surveyed.name,
        "installations": [installation_facts(i) for i in surveyed.installations],
        "places": {name: where_facts(where) for name, where in places},
    }


def installation_facts(installation: Installation) -> dict[str, object]:
    """Return an installation as plain JSON values."""
    return {
        "case": installation.case,
        "sign": installation.sign,
        "release": str(installation.release) if installation.release is not None else None,
        "edition": installation.edition or None,
        "unknown": list(installation.unknown),
    }


def where_facts(where: Where) -> dict[str, object]:
    """Return where a place is, and how it was found, as plain JSON values."""
    match where:
        case Found() | Absent():
            how = where.how
            return {
                "path": where.path,
                "kind": where.kind,
                "there": isinstance(where, Found),
                "synced": where.synced or None if isinstance(where, Found) else None,
                "how": str(how),
                "rule": how.rule,
                "case": how.case,
                "source": how.source or None,
                "line": how.line or None,
                "among": list(how.among),
            }
        case Held():
            return {"how": str(where), "rule": "held"}
        case Several():
            return {
                "several": [
                    {
                        "path": i.path,
                        "name": i.name,
                        "in use": i.in_use,
                        "kind": i.kind,
                        "synced": i.synced or None,
                        "how": str(i.how),
                    }
                    for i in where.instances
                ],
                "source": where.source or None,
                "skipped": [{"path": p, "reason": r} for p, r in where.rejected],
            }
        case Nowhere():
            return {"path": None, "there": False, "reason": where.reason}
