"""What a person must list in a program on new, since copying alone does not tell it."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.finding import Absent, Found
from widetrail.machine.paths import is_within
from widetrail.planning.draft import Subject
from widetrail.recipe import Route
from widetrail.recipe.places import Place
from widetrail.steps import RULES


def to_register(subject: Subject, route: Route) -> Iterator[str]:
    """Give the task of listing an instance that new's program does not know, where copying it does
    not do that."""
    new, instance = subject.new_place, subject.instance
    case = subject.finder.case_of(subject.item.from_)
    listed = case is not None and (case.index is not None or _stays_unlisted(subject, case))
    rules = [RULES[s.kind] for leg in route.legs for s in leg.steps if leg.station == "new"]
    known = isinstance(new, Found) and new.how.rule == "index"
    if instance is None or not listed or known or not isinstance(new, Absent | Found):
        return
    if any(r.carries for r in rules) and not any(r.makes_known for r in rules):
        name = subject.side.loaded.recipe.application.name
        yield (
            f"On {subject.side.new.machine}: add {new.path} to what {name} lists, as "
            f"“{instance.name}”; copying alone does not do that"
        )


def _stays_unlisted(subject: Subject, case: Place) -> bool:
    """Return whether the settings that list the files of a place are carried by no item."""
    if case.listed_in is None or (path := subject.finder.choice(case.listed_in.file_read)) is None:
        return case.listed_in is not None
    machine, places = subject.finder.machine, subject.side.loaded.recipe.items.values()
    found = (subject.finder.place(item.from_) for item in places)
    return not any(
        isinstance(p, Found) and is_within(path, p.path, machine.platform) for p in found
    )
