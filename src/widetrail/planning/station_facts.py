"""What a plan knows of a station: seen on the machine, told by its card, or assumed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal, Protocol

from widetrail.errors import InputUnusable
from widetrail.finding import (
    Absent,
    CardFacts,
    Finder,
    Found,
    How,
    Known,
    Nowhere,
    Said,
    Unknown,
    Where,
)
from widetrail.finding.card import CardInstallation
from widetrail.machine import Machine
from widetrail.machine.paths import is_within, shared_name
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.recipe import Loaded
from widetrail.recipe.releases import Release, parse_release

UNSEEN = "the new machine"
"""What new is called while nobody has seen it."""

Source = Literal["seen", "card", "assumed"]

New = Machine | CardFacts | None
"""The new machine: within reach, told by the facts of its card, or not known yet."""


class Side(Protocol):
    """One recipe's application as one station knows it."""

    source: Source
    machine: str

    @property
    def said(self) -> Said:
        """What a person said of the recipe's places there."""

    @property
    def installed(self) -> bool | None:
        """Whether the application is there; ``None`` where that is not known."""

    @property
    def release(self) -> Release | None:
        """Its release, where that is known."""

    def fact(self, name: str) -> Known | Unknown:
        """Return a fact of the machine or installation by the name that needs give it."""

    def place(self, name: str) -> Where:
        """Return where a place of the recipe is."""

    def reading(self, name: str) -> Known | Unknown:
        """Take a reading of the recipe."""

    def root(self, name: str) -> str:
        """Return the folder a root stands for, or an empty text where that is not known."""

    def has_disk_of(self, path: str) -> bool:
        """Return whether the volume of ``path`` is there, as far as is known."""

    def shared(self, path: str) -> str:
        """Return the name that ``path`` has on every machine that sees it, if others do."""


class SeenSide:
    """A side that is a machine within reach."""

    source: Source = "seen"

    def __init__(self, finder: Finder) -> None:
        self.finder = finder
        self.machine = finder.machine.name
        self.said = finder.by_person

    @property
    def installed(self) -> bool | None:
        return self.finder.installation is not None

    @property
    def release(self) -> Release | None:
        here = self.finder.installation
        return here.release if here is not None else None

    def fact(self, name: str) -> Known | Unknown:
        here, machine = self.finder.installation, self.finder.machine
        facts: dict[str, object] = {
            "installed": here is not None,
            "administrator": machine.administrator,
            "network": machine.network,
            "platform": machine.platform,
            "system": machine.system,
            "release": str(here.release) if here is not None and here.release else None,
            "edition": here.edition or None if here is not None else None,
        }
        return _known(name, facts.get(name))

    def place(self, name: str) -> Where:
        return self.finder.place(name)

    def reading(self, name: str) -> Known | Unknown:
        return self.finder.reading(name)

    def root(self, name: str) -> str:
        return self.finder.machine.root(name)

    def has_disk_of(self, path: str) -> bool:
        machine = self.finder.machine
        return _has_disk(machine.disks(), path, machine.platform)

    def shared(self, path: str) -> str:
        machine = self.finder.machine
        return shared_name(path, machine.shares(), machine.platform)


class CardSide:
    """A side whose machine is out of reach while its card is there."""

    source: Source = "card"

    def __init__(self, facts: CardFacts, loaded: Loaded, said: Said) -> None:
        """Take what the card says of ``loaded``'s application, and a person of its places.

        Raises:
            InputUnusable: The card was made with another edition of the recipe, or without it.
        """
        self._facts, self.said = facts, said
        self.machine = facts.machine
        listed = {a.id: a for a in facts.applications}
        todo = "Write the card again on that machine, with this recipe."
        if loaded.id not in listed:
            why = f"it says nothing of {loaded.id}"
            raise InputUnusable(
                "the card does not match the recipes", where=self.machine, why=why, todo=todo
            )
        self._application = listed[loaded.id]
        if self._application.recipe != loaded.digest:
            why = f"it was made with another edition of the recipe for {loaded.id}"
            raise InputUnusable(
                "the card does not match the recipes", where=self.machine, why=why, todo=todo
            )

    @property
    def installed(self) -> bool | None:
        return bool(self._application.installations)

    @property
    def _latest(self) -> CardInstallation | None:
        known = [(parse_release(i.release or ""), i) for i in self._application.installations]
        ordered = sorted(known, key=lambda pair: pair[0].order if pair[0] else ())
        return ordered[-1][1] if ordered else None

    @property
    def release(self) -> Release | None:
        latest = self._latest
        return parse_release(latest.release or "") if latest is not None else None

    def fact(self, name: str) -> Known | Unknown:
        latest, told = self._latest, self._facts
        facts: dict[str, object] = {
            "installed": self.installed,
            "release": latest.release if latest is not None else None,
            "edition": latest.edition if latest is not None else None,
            "administrator": told.administrator,
            "network": told.network,
            "platform": told.platform,
            "system": told.system,
        }
        return _known(name, facts.get(name))

    def place(self, name: str) -> Where:
        told = self._application.places.get(name)
        if told is not None and name in self.said.at and isinstance(told.where, Found | Absent):
            usual = told.where
            return Absent(self.said.at[name], usual.kind, How("chosen", usual.how.case))
        return told.where if told is not None else Nowhere("the card does not say it")

    def reading(self, name: str) -> Known | Unknown:
        return Unknown("a card holds no readings")

    def root(self, name: str) -> str:
        return self._facts.roots.get(name, "")

    def has_disk_of(self, path: str) -> bool:
        return _has_disk(self._facts.disks, path, self._facts.platform)

    def shared(self, path: str) -> str:
        return shared_name(path, self._facts.shares, self._facts.platform)


class ToldSide:
    """Old as a plan tells it, where old itself is out of reach."""

    source: Source = "seen"
    installed: bool | None = True
    said = Said()

    def __init__(self, machine: str, facts: Mapping[str, str]) -> None:
        self.machine, self._facts = machine, facts

    @property
    def release(self) -> Release | None:
        return parse_release(self._facts.get("release", ""))

    def fact(self, name: str) -> Known | Unknown:
        return _known(name, self._facts.get(name))

    def place(self, name: str) -> Where:
        return Nowhere("old is out of reach")

    def reading(self, name: str) -> Known | Unknown:
        return Unknown("old is out of reach")

    def root(self, name: str) -> str:
        return ""

    def has_disk_of(self, path: str) -> bool:
        return False

    def shared(self, path: str) -> str:
        return ""


class LaterSide:
    """A side nothing is known of yet."""

    source: Source = "assumed"
    machine = UNSEEN
    said = Said()
    installed: bool | None = None
    release: Release | None = None

    def fact(self, name: str) -> Known | Unknown:
        return Unknown("the new computer was not seen")

    def place(self, name: str) -> Where:
        return Nowhere("the new computer was not seen")

    def reading(self, name: str) -> Known | Unknown:
        return Unknown("the new computer was not seen")

    def root(self, name: str) -> str:
        return ""

    def has_disk_of(self, path: str) -> bool:
        return False

    def shared(self, path: str) -> str:
        return ""


def _has_disk(disks: Iterable[str], path: str, platform: Platform) -> bool:
    """Return whether a path lies on a volume that is there.

    Where disks are mounted below one folder, that folder holds nothing but them.
    """
    holding = [disk for disk in disks if is_within(path, disk, platform)]
    mounted = PLATFORMS[platform].mounted.match(path)
    return any(disk != "/" for disk in holding) if mounted else bool(holding)


def _known(name: str, value: object) -> Known | Unknown:
    if isinstance(value, bool | str) and value != "":
        return Known(value)
    return Unknown(f"its {name} is not known")
