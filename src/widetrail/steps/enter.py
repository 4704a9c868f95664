"""``enter``: an item's values into the registry, desktop settings or a preference file on new.

What each value was before is saved first, durable, so that the values can be had back; what is
entered is read again.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from typing import Literal, Protocol

from widetrail.errors import Halted, WentWrong
from widetrail.finding.atlas import Elsewhere, NotUnderstood, Rewritten, Unsayable
from widetrail.finding.stores import (
    Store,
    StoreKind,
    carried_as,
    decode_values,
    file_with,
    folds_names,
    in_file,
    is_value,
    named_at,
    selected,
    shown_name,
    texts_of,
    with_texts,
)
from widetrail.formats import Unreadable
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import NotThere, Spot, Unwritable
from widetrail.formats.parser_process import ask_form
from widetrail.formats.stored_values import Count, Text
from widetrail.machine.path_notation import read_written, write_again
from widetrail.recipe import Existing
from widetrail.recipe.decisions import MET
from widetrail.recipe.templates import plain
from widetrail.steps.contexts import Cargo, OfItem, Paths, Work
from widetrail.steps.journal_events import StepRecord, ValuesSaved
from widetrail.steps.kind import Act, Touched
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome, Remark, remarks
from widetrail.steps.replacing import put_file, put_values
from widetrail.steps.step import Step, WrittenAt


class Has(Work, OfItem, Cargo, Paths, Protocol):
    """What entering values takes."""


EXISTING_VALUES = {
    "back up": "existing values are removed, and can be restored",
    "replace": "values of the same name are replaced, and can be restored; others stay",
    "skip": "existing values stay",
    "refuse": "none may exist there yet",
}


_STARTS = re.compile(r"\\CurrentVersion\\(Policies\\Explorer\\)?Run", re.IGNORECASE)
"""Keys whose values the system starts as programs."""


class EnterStep(Step):
    """Values that are entered at ``target``, which is a place of a store or a preference file."""

    kind: Literal["enter"] = "enter"
    target: str
    existing: Existing
    store: StoreKind


class EnterFacts(Facts):
    """How many values were entered, where, and how many paths in them were made right."""

    values: Count = 0
    to: Text = ""
    paths_rewritten: Count = 0


class Entered(StepRecord):
    """An item's values were entered."""

    event = "entered"

    facts: EnterFacts


class Enter(Act[EnterStep, Has]):
    """Merges values into what new has."""

    step = EnterStep
    facts = EnterFacts
    records = (Entered,)
    needs_closed = True
    places = True

    def touches(self, step: EnterStep, doing: OfItem) -> Iterator[Touched]:
        if place := doing.pinned(step.item):
            yield Touched(place, told=doing.is_told(step.item), holds_cargo=True)

    def words(self, step: EnterStep) -> str:
        place, what = plain(step.target), EXISTING_VALUES[step.existing]
        starts = "; what is there starts automatically" if _STARTS.search(place) else ""
        return f"Write the values of {step.item} to {place}; {what}{starts}"

    def do(self, step: EnterStep, doing: Has) -> Outcome:
        entered = doing.recorded(Entered, step.id)
        if entered is not None:
            return Done(entered.facts)
        doing.await_closed(step.item)
        kind = doing.store(step.item)
        assert kind is not None
        try:
            facts = _Entering(step, doing, kind).do()
        except (Unreadable, Unwritable) as error:
            todo = "Check what is there; nothing was changed."
            return Failed(f"{doing.pinned(step.item)} {error}", todo)
        doing.record(Entered(step=step.id, facts=facts))
        return Done(facts)


class _Entering:
    """One item's values on their way into a store."""

    def __init__(self, step: EnterStep, doing: Has, kind: StoreKind) -> None:
        self._step, self._doing, self._kind = step, doing, kind
        self._place, self._old_place = doing.pinned(step.item), doing.place_on_old(step.item)
        self._store = Store(doing.machine, kind, self._place)
        self._remarks: list[Remark] = []
        self._count = 0
        self._atlas = doing.atlas(step.item, self._place)

    def do(self) -> EnterFacts:
        """Enter the values; return what a report tells."""
        before = self._store.read()
        carried = self._spelled(self._right(self._carried()), before)
        there = selected(self._kind, self._doing.item(self._step.item), before)
        if any(map(is_value, there)):
            item = self._step.item
            self._doing.finder(item).decide(self._doing.route(item), MET)
        changes = self._changes(carried, there)
        values = sum(map(is_value, carried))
        if in_file(self._kind):
            backed_up = self._into_file(changes)
        else:
            backed_up = put_values(self._step, self._doing, self._store, changes, before)
        now = self._store.read()
        told = {name: text for name, text in changes.items() if is_value(name) or text is not None}
        wrong = [name for name, text in told.items() if now.get(name) != text]
        if wrong:
            raise WentWrong(
                "what was written is not there",
                where=shown_name(self._kind, wrong[0]),
                why="it reads back differently",
                todo="Check it in the program, then walk again.",
            )
        return EnterFacts(
            values=values,
            to=self._place,
            backed_up=tuple(backed_up),
            paths_rewritten=self._count,
            remarks=tuple(self._remarks),
        )

    def _carried(self) -> dict[str, str]:
        entry = self._doing.packed.get(self._step.item, carried_as(self._kind))
        assert entry is not None, "values are packed as one file"
        self._doing.packed.insist(entry)
        data = b"".join(self._doing.packed.chunks(entry))
        carried = decode_values(self._kind, data, self._old_place)
        item = self._doing.item(self._step.item)
        beyond = filter(is_value, carried.keys() - selected(self._kind, item, carried).keys())
        if (name := next(beyond, None)) is not None:
            raise Unreadable(f"gets a value that {self._step.item} does not take: {name!r}")
        return carried

    def _spelled(self, carried: Mapping[str, str], there: Mapping[str, str]) -> dict[str, str]:
        """Return values by the names that are there already, where case does not count."""
        known = {n.casefold(): n for n in there} if folds_names(self._kind) else {}
        return {known.get(name.casefold(), name): text for name, text in carried.items()}

    def _changes(
        self, carried: Mapping[str, str], there: Mapping[str, str]
    ) -> dict[str, str | None]:
        """Return what is set and what goes, as ``existing`` says."""
        existing = self._step.existing
        begun = self._doing.recorded(ValuesSaved, self._step.id) is not None
        if existing == "refuse" and any(map(is_value, there)) and not begun:
            raise Halted(
                "it already exists",
                where=self._place,
                why="the recipe allows no existing files (existing: refuse)",
                todo="Remove it, then walk again.",
            )
        changes: dict[str, str | None] = dict(carried)
        if existing == "skip":
            changes = {n: text for n, text in carried.items() if n not in there}
        if existing == "back up":
            changes |= {n: None for n in there if n not in carried}
        return {n: text for n, text in changes.items() if there.get(n) != text}

    def _into_file(self, changes: Mapping[str, str | None]) -> list[str]:
        doing = self._doing
        data = doing.machine.read(self._place) if doing.machine.look(self._place) else b""
        return put_file(self._step, doing, self._place, file_with(self._kind, data, changes))

    # Paths

    def _right(self, carried: Mapping[str, str]) -> dict[str, str]:
        """Return values as new's program must read them."""
        rules = self._doing.written(self._step.item)
        if in_file(self._kind):
            return self._right_in_file(carried, rules) if rules else dict(carried)
        return {name: self._value(name, text, rules) for name, text in carried.items()}

    def _right_in_file(
        self, carried: Mapping[str, str], rules: tuple[WrittenAt, ...]
    ) -> dict[str, str]:
        """Return values that were made right where they stand in a file with these alone."""
        form, data = FORMS[self._kind], file_with(self._kind, b"", carried)
        assert form.spots is not None and form.put is not None, "such a form holds paths"
        for rule in rules:
            with suppress(NotThere):
                spots = ask_form(form, form.spots, data, rule.at)
                if changes := self._changed(spots, rule):
                    data = ask_form(form, form.put, data, rule.at, changes)
        return decode_values(self._kind, data, self._old_place)

    def _value(self, name: str, text: str, rules: tuple[WrittenAt, ...]) -> str:
        for rule in rules:
            if named_at(self._kind, self._old_place, name, rule.at):
                spots = texts_of(self._kind, self._old_place, name, text)
                if changes := self._changed(spots, rule, shown_name(self._kind, name)):
                    text = with_texts(self._kind, self._old_place, name, text, changes)
        return text

    def _changed(self, spots: Iterable[Spot], rule: WrittenAt, shown: str = "") -> dict[str, str]:
        """Return what becomes of the paths that a rule finds, by where they stand."""
        atlas, changes = self._atlas, dict[str, str]()
        for spot in spots:
            if rule.tells:
                path, _ = self._doing.place_told(self._step.item, rule.tells)
                written, _ = read_written(spot.text, atlas.old)
                if written is not None and path:
                    changes[spot.where] = write_again(written, path, atlas.new)
                continue
            match atlas.translate(spot.text, "", "", rule.how):
                case Rewritten(told):
                    changes[spot.where] = told
                case Elsewhere(path):
                    self._remarks += remarks("elsewhere", [path])
                case Unsayable(path, why):
                    self._remarks.append(Remark(code="unsayable", path=path, reason=why))
                case NotUnderstood(reason):
                    where = shown or spot.where
                    self._remarks.append(Remark(code="not_rewritten", path=where, reason=reason))
        self._count += len(changes)
        return changes
