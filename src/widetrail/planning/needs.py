"""Judging needs and limits: each with the value that decided."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Literal

from widetrail.finding import Absent, Found, Known, Unknown, condition_holds
from widetrail.formats.quantities import show_files, show_size
from widetrail.formats.registry import is_shared_by_accounts
from widetrail.lazily import dataclass
from widetrail.planning.station_facts import Side
from widetrail.recipe.conditions import Condition, Limit, Needs, SideNeeds
from widetrail.recipe.releases import AS_OLD, parse_release, parse_releases
from widetrail.recipe.routes import STATIONS

Verdict = Literal["met", "unmet", "assumed"]


@dataclass(frozen=True)
class Judged:
    """One need: the station and fact it is about, what was wanted, what was found, the verdict."""

    station: str
    fact: str
    wanted: str
    found: str
    verdict: Verdict

    def __str__(self) -> str:
        name, where = _called(self.fact), _where(self.station)
        if self.fact == "installed" and self.verdict != "assumed":
            return f"it is {'' if self.found == 'yes' else 'not '}installed on {where}"
        if self.verdict == "assumed":
            return f"{name} on {where} is assumed to be {self.wanted}"
        if self.verdict == "met":
            return f"{name} on {where} is {self.found}"
        return f"{name} on {where} must be {self.wanted}, but is {self.found}"


def _called(fact: str) -> str:
    return "version" if fact == "release" else fact.replace("_", " ")


def _where(station: str) -> str:
    return "the computer between" if station == "between" else f"the {station} computer"


def needs_in_words(needs: Needs) -> list[str]:
    """Return each need of a route as a condition for people, before any machine is known.

    Example:
        >>> needs_in_words(Needs.model_validate({"new": {"release": ">=5"}}))
        ['version on the new computer is >=5']
    """
    sides = ((station, getattr(needs, station)) for station in STATIONS)
    return [
        f"{_called(fact)} on {_where(station)} is {wanted}"
        for station, side in sides
        if side is not None
        for fact, wanted in _wanted(side)
    ]


def _wanted(side: SideNeeds) -> Iterator[tuple[str, str]]:
    """Give each fact and reading that one station needs, with what it must be."""
    if side.release is not None:
        shown = f"that of the old computer{_BESIDE[side.release]}" if side.release in AS_OLD else ""
        yield "release", shown or side.release
    if side.system is not None:
        yield "system", side.system
    for name, condition in _conditions(side):
        as_old = name == "platform" and condition.equals == "same"
        yield name, "the same as on the old computer" if as_old else str(condition)
    if side.path is not None:
        yield "path of the place", "the same as on the old computer"
    for name, condition in side.readings.items():
        yield name, str(condition)


def judge_needs(needs: Needs, old: Side, new: Side, place: str, today: datetime) -> list[Judged]:
    """Judge every need of a route. ``place`` is the item's, for needs of its path.

    A fact unknown on old is unmet; unknown on new, while new was not seen, it is assumed. That new
    has the application is a need of every route unless the recipe says otherwise, and so is an
    administrator where the item lies in the part of the registry that all accounts share.
    """
    sides = SideNeeds() if needs.new is None else needs.new
    yes = Condition.model_validate("yes")
    sides = sides.model_copy(update=dict.fromkeys(_needed_anyway(sides, new, place), yes))
    judged = [] if needs.old is None else list(judge_side("old", needs.old, old, old, place, today))
    judged += judge_side("new", sides, new, old, place, today)
    if needs.between is not None:
        judged += [
            Judged("between", name, str(condition), "not known", "assumed")
            for name, condition in _conditions(needs.between)
        ]
    return judged


def _needed_anyway(told: SideNeeds, new: Side, place: str) -> Iterator[str]:
    """Give what must hold on new though the recipe says nothing of it."""
    if told.installed is None:
        yield "installed"
    if told.administrator is None and place:
        match new.place(place):
            case Found(kind="key" | "value") | Absent(kind="key" | "value") as where:
                if is_shared_by_accounts(where.path):
                    yield "administrator"


def _conditions(needs: SideNeeds) -> Iterator[tuple[str, Condition]]:
    for name in ("edition", "installed", "administrator", "network", "platform"):
        condition = getattr(needs, name)
        if condition is not None:
            yield name, condition


def judge_side(
    station: str, needs: SideNeeds, side: Side, old: Side, place: str, today: datetime
) -> Iterator[Judged]:
    """Judge every need of one station; as ``judge_needs``."""
    if needs.release is not None:
        yield _release(station, needs.release, side, old)
    if needs.system is not None:
        found = side.fact("system")
        yield _ranged(station, "system", needs.system, found, side)
    for name, condition in _conditions(needs):
        if name == "platform" and condition.equals == "same":
            here = old.fact("platform")
            if isinstance(here, Unknown):
                yield _unknown("old", name, "known", here, old)
                continue
            condition = condition.model_copy(update={"equals": str(here.value)})
        yield _judged(station, name, condition, side.fact(name), side, None, today)
    if needs.path is not None:
        yield _path(station, side, old, place)
    for name, condition in needs.readings.items():
        covered = old.reading(name) if condition.compares_old else None
        yield _judged(station, name, condition, side.reading(name), side, covered, today)


def _unknown(station: str, fact: str, wanted: str, found: Unknown, side: Side) -> Judged:
    open_yet = station == "new" and side.source != "seen"
    verdict: Verdict = "assumed" if open_yet else "unmet"
    return Judged(station, fact, wanted, f"unknown ({found.reason})", verdict)


def _judged(
    station: str,
    fact: str,
    condition: Condition,
    found: Known | Unknown,
    side: Side,
    covered: Known | Unknown | None,
    today: datetime,
) -> Judged:
    if isinstance(found, Unknown):
        return _unknown(station, fact, str(condition), found, side)
    if isinstance(covered, Unknown):
        return _unknown("old", fact, str(condition), covered, side)
    of_old = covered.value if covered is not None else None
    holds = condition_holds(condition, found.value, of_old, today)
    return Judged(station, fact, str(condition), str(found), "met" if holds else "unmet")


def _release(station: str, wanted: str, side: Side, old: Side) -> Judged:
    if wanted not in AS_OLD:
        return _ranged(station, "release", wanted, side.fact("release"), side)
    if old.release is None:
        reason = Unknown("the version on the old computer is not known")
        return _unknown(
            "old", "release", f"known, since the new computer's must be {wanted}", reason, old
        )
    shown = f"{old.release}{_BESIDE[wanted]}"
    if side.release is None:
        return _unknown(
            station,
            "release",
            shown,
            Unknown("its version is not known"),
            side,
        )
    holds = AS_OLD[wanted](side.release, old.release)
    return Judged(station, "release", shown, str(side.release), "met" if holds else "unmet")


_BESIDE = {"same": "", "same or later": " or later", "same major": ", or another of its major"}
"""What is said of old's release, by what is asked of new's."""


def _ranged(station: str, fact: str, wanted: str, found: Known | Unknown, side: Side) -> Judged:
    if isinstance(found, Unknown):
        return _unknown(station, fact, wanted, found, side)
    release = parse_release(str(found.value))
    holds = release is not None and release in parse_releases(wanted)
    return Judged(station, fact, wanted, str(found), "met" if holds else "unmet")


def _path(station: str, side: Side, old: Side, place: str) -> Judged:
    here, there = side.place(place), old.place(place)
    if not isinstance(there, Found | Absent):
        return _unknown("old", "path", "known", Unknown(str(there)), old)
    if not isinstance(here, Found | Absent):
        return _unknown(station, "path", there.path, Unknown(str(here)), side)
    verdict: Verdict = "met" if here.path == there.path else "unmet"
    return Judged(station, "path", there.path, here.path, verdict)


def limit_in_words(limit: Limit) -> list[str]:
    """Return what an item may have at most to go a route, as conditions for people."""
    told = {
        "all of it is at most {}": show_size(limit.size) if limit.size is not None else None,
        "it has at most {}": show_files(limit.count) if limit.count is not None else None,
        "no file is larger than {}": show_size(limit.file) if limit.file is not None else None,
    }
    return [words.format(most) for words, most in told.items() if most is not None]


def beyond_limit(limit: Limit, size: int, files: int, largest: int) -> str:
    """Return why ``limit`` passes an item over, or an empty text."""
    if limit.size is not None and size > limit.size:
        return f"its limit is {show_size(limit.size)}, and this is {show_size(size)}"
    if limit.count is not None and files > limit.count:
        return f"its limit is {limit.count} files, and there are {files}"
    if limit.file is not None and largest > limit.file:
        shown = show_size(largest)
        return f"its limit is {show_size(limit.file)} a file, and the largest is {shown}"
    return ""
