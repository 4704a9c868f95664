"""``records``: letters, contacts, bookmarks and the like merged into a store that may hold some.

The store as it will be is written beside it and put in its place whole; what was there before is
kept. Afterwards it is read again: every record that was to come must be there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from hashlib import sha256
from pathlib import Path

from widetrail.errors import Halted, WentWrong, WideTrailError
from widetrail.finding.readings import COPY_MOST, copied_database
from widetrail.formats import Unreadable
from widetrail.formats.companions import BESIDE
from widetrail.formats.outside import read_outside
from widetrail.formats.record import Broken, InDatabase, MergesFields
from widetrail.machine import file_digest
from widetrail.machine.moves import Move
from widetrail.machine.paths import join
from widetrail.recipe.templates import braces, literal, plain
from widetrail.records import Duplicates, Merge, Merged, Policy, Store
from widetrail.steps import appending
from widetrail.steps.appending import Appending, cut_again, cut_of
from widetrail.steps.backup import missing_folders, move, room_at
from widetrail.steps.contexts import OfItem
from widetrail.steps.foreseeing import Foreseen, Sight
from widetrail.steps.journal_events import Record, StepRecord
from widetrail.steps.kind import Act, Rule, Touched
from widetrail.steps.outcomes import Done, Failed, Outcome
from widetrail.steps.pack import PackStep
from widetrail.steps.reading_conditions import conditions
from widetrail.steps.record_sources import Far, named, policy_of, seen, sources_of
from widetrail.steps.records_settings import PARCEL, RecordsSettings
from widetrail.steps.records_step import Has, RecordsFacts, RecordsStep
from widetrail.steps.replacing import put_again, put_chunks, put_file
from widetrail.steps.run_storage import ASIDE, STAGING
from widetrail.steps.step import Step, Unfolding
from widetrail.steps.undo import UndoAct, WayBack

_WORDS = {
    "replace": "existing records of the same identity are replaced",
    "keep both": "existing records of the same identity stay beside those that come",
    "skip": "existing records of the same identity stay as they are",
    "merge fields": "existing records of the same identity get the fields that they lack",
}

_PACKED = "{parcel}"


class RecordsJudged(StepRecord):
    """What comes of a merge, before anything is put in place."""

    event = "records judged"

    facts: RecordsFacts


class MergeRecords(Rule[RecordsSettings], Act[RecordsStep, Has]):
    """Unfolds into a packing of the item's files, where records come from those, and a merging."""

    settings = RecordsSettings
    step = RecordsStep
    facts = RecordsFacts
    records = (RecordsJudged, Appending)
    needs_closed = True
    moves_data = True
    makes_known = True
    takes_over = True

    def unfold(self, settings: RecordsSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        steps: list[Step] = []
        if settings.fills_parcel:
            source = literal(unfolding.old_path)
            steps.append(
                unfolding.step(
                    PackStep, station="old", source=source, reads=(source,), writes=(_PACKED,)
                )
            )
        target = settings.records.told
        path = unfolding.expand(target.path)
        sources = [source.told for source in settings.from_]
        filled = [
            one.model_copy(update={"path": unfolding.expand(one.path)})
            if one.path.startswith(PARCEL)
            else one
            for one in sources
        ]
        steps.append(
            unfolding.step(
                RecordsStep,
                target=target.model_copy(update={"path": path}),
                sources=tuple(filled),
                duplicates=_duplicates(settings, unfolding),
                into=settings.into,
                by_content=settings.identity == "content",
                only=conditions(settings.only),
                without=conditions(settings.without),
                chosen={
                    field: unfolding.parts[part]
                    for part, field in settings.parts.items()
                    if part in unfolding.narrowed
                },
                after=tuple(one.id for one in steps),
                reads=tuple(one.path for one in filled if one.path.startswith(PARCEL))
                or (_PACKED,),
                changes=(path,),
            )
        )
        return tuple(steps)

    def words(self, step: RecordsStep) -> str:
        kind, to = step.target.records.kind, plain(step.target.path)
        where = f" in the folder {' / '.join(step.into)}" if step.into else ""
        some = (f"{name} is {', '.join(values)}" for name, values in step.chosen.items())
        wanted = [*step.only, *some]
        only = f", only where {' and '.join(wanted)}" if wanted else ""
        without = f", without those where {' or '.join(step.without)}" if step.without else ""
        return f"Merge {kind}s into {to}{where}{only}{without}; {_WORDS[step.duplicates]}"

    def touches(self, step: RecordsStep, item: OfItem) -> Iterator[Touched]:
        path = step.target.path
        if not braces(path):
            yield Touched(plain(path), told=True, holds_cargo=True)

    def foresee(self, step: RecordsStep, sight: Sight) -> Foreseen | None:
        to = sight.on_new(step, step.target.path)
        if to is None:
            return None
        if any(told.path.startswith("{") for told in step.sources):
            return Foreseen(
                to, trouble="not known yet, since a program exports these records during the walk"
            )
        place, rule = sight.old_place(step.item), sight.settings(step)
        assert isinstance(rule, RecordsSettings)
        paths = [entry.path for entry in sight.old.walk(place) if entry.kind == "file"]
        policy = policy_of(step, rule, sight.now)
        try:
            with ExitStack() as lent:
                sources = [
                    seen(told, sight.old, join(place, store), lent)
                    for told in step.sources
                    for store in named(paths, told.path)
                ]
                target = seen(step.target, sight.new, to, lent)
                with Merge(sources, target, policy) as merge:
                    told = merge.merged
        except (Broken, Unreadable, OSError, WideTrailError) as error:
            return Foreseen(to, trouble=str(error))
        return Foreseen(to, told.held, dict(told.count), dict(told.names), told.fields)

    def undo(self, record: Record, way: WayBack) -> Iterator[UndoAct]:
        if isinstance(record, Appending):
            yield UndoAct(cut=cut_of(record, way.fresh(record.place)))
        else:
            yield from super().undo(record, way)

    def do(self, step: RecordsStep, doing: Has) -> Outcome:
        judged = doing.recorded(RecordsJudged, step.id)
        if judged is not None and (kept := put_again(step, doing)) is not None:
            return _ended(step, doing, judged.facts, kept)
        doing.await_closed(step.item)
        if trouble := cut_again(step, doing):
            return Failed(trouble, "Check it in the program; it is as the program left it.")
        try:
            return _Merging(step, doing).do()
        except (Broken, Unreadable) as error:
            return Failed(
                f"{error}", "Check it in the program, then walk again; nothing was changed."
            )


def _duplicates(settings: RecordsSettings, unfolding: Unfolding) -> Duplicates:
    """Return what becomes of duplicates: as the person chose, or as the recipe says.

    Raises:
        Halted: The store has no fields that can be merged, and that was chosen.
    """
    chosen = unfolding.duplicates or settings.duplicates
    if chosen == "merge fields" and not isinstance(settings.records.records, MergesFields):
        raise Halted(
            "the fields of these records cannot be merged",
            where=unfolding.subject,
            why=f'"{settings.records.form}" has none that this tool knows',
            todo="Choose replace, keep both or skip.",
        )
    return chosen


class _Merging:
    """Sources on their way into a store."""

    def __init__(self, step: RecordsStep, doing: Has) -> None:
        self._step, self._doing = step, doing
        self._path = doing.fill(step, step.target.path)
        self._scratch = join(doing.workroom, "records", doing.slug(step.item))
        self._far = Far(doing, [])

    def do(self) -> Outcome:
        """Merge; return what came of it."""
        doing, step = self._doing, self._step
        try:
            sources = sources_of(step, doing, self._scratch)
            target = self._target()
            rule = doing.settings(step)
            assert isinstance(rule, RecordsSettings)
            policy = policy_of(step, rule, doing.now)
            if isinstance(step.target.records, InDatabase):
                return self._in_database(step.target.records, sources, policy)
            self._far = Far(doing, [*sources, target])
            with Merge(sources, target, policy, self._far.passed) as merge:
                facts = _facts(self._path, merge.merged)
                if doing.is_sealed:  # subjects and names are nothing for whoever finds the parcel
                    facts = facts.model_copy(update={"left_names": ()})
                if not merge.changes:
                    return Done(facts)
                doing.record(RecordsJudged(step=step.id, facts=facts))
                if step.target.records.in_folder:
                    return _ended(step, doing, facts, self._put_files(merge))

                there = doing.machine.look(self._path)
                if merge.appends and there is not None and there.size >= appending.LARGE:
                    return self._append(merge, sources, policy, facts)

                def judge(ready: Path) -> None:
                    self._insist_all(sources, ready, policy)

                kept = put_chunks(step, doing, self._path, merge.chunks(), judge=judge)
                return _ended(step, doing, facts, kept)
        finally:
            host = doing.machine.host(self._scratch)
            if host.exists():
                doing.machine.effects.remove_tree(host)

    def _append(
        self, merge: Merge, sources: Sequence[Store], policy: Policy, facts: RecordsFacts
    ) -> Outcome:
        """Add what comes to the end of a store that is too large to be kept whole."""
        doing, step = self._doing, self._step
        appending.append_chunks(step, doing, self._path, merge.appended())
        try:
            self._insist_all(sources, doing.machine.host(self._path), policy)
        except WideTrailError:
            appending.cut_again(step, doing)
            raise
        return _ended(step, doing, facts, [])

    def _in_database(self, form: InDatabase, sources: Sequence[Store], policy: Policy) -> Outcome:
        """Merge into a copy of a database, and put that in its place with no journal beside it."""
        doing, step, told = self._doing, self._step, self._step.target
        if doing.machine.look(self._path) is None:
            raise Broken(f"{self._path} is not there: start its program once, so that it makes it")
        with copied_database(doing.machine, self._path) as lent:
            copy = Path(lent)
            with Merge(sources, Store(told.records, copy, told.declared), policy) as merge:
                facts = _facts(self._path, merge.merged)
                added, changed = merge.rows()
            if not (added or changed):
                return Done(facts)
            doing.record(RecordsJudged(step=step.id, facts=facts))
            form.apply(copy, told.declared, added, changed)
            self._insist_all(sources, copy, policy)
            data = read_outside(copy, COPY_MOST, named=True)
        journals = [f"{self._path}{suffix}" for suffix in BESIDE]
        return _ended(step, doing, facts, put_file(step, doing, self._path, data, journals))

    def _target(self) -> Store:
        told = self._step.target
        return Store(told.records, self._doing.machine.host(self._path), told.declared)

    def _put_files(self, merge: Merge) -> list[str]:
        """Put the files of records in place; what they replace is kept."""
        doing, step, machine = self._doing, self._step, self._doing.machine
        room = room_at(doing, self._path, step.item)
        staged, aside = room.fresh(STAGING), room.fresh(ASIDE)
        moves, made = list[Move](), dict[str, None]()
        moment = int(doing.now.timestamp() * 10**9)
        for number, new in enumerate(merge.files(), start=1):
            source, target = join(staged, str(number)), join(self._path, new.path)
            host = machine.host(source)
            machine.effects.make_folders(host.parent, 0o700)
            with machine.effects.create(host, 0o600) as file:
                file.write(new.data)
                file.set_status(0o600, moment)
            if file_digest(host) != sha256(new.data).hexdigest():
                raise _missing(target, "its SHA-256 differs when it is read back")
            for folder in missing_folders(machine, target):
                if folder.target not in made:
                    made[folder.target] = None
                    moves.append(folder)
            if new.replaces:
                moves.append(Move("out", target, join(aside, str(number))))
            moves.append(Move("into", source, target))
        machine.effects.barrier(machine.host(staged))
        kept = [aside] if any(one.kind == "out" for one in moves) else []
        move(step, doing, moves, kept)
        room.clear(staged)
        return kept

    def _insist_all(self, sources: Sequence[Store], ready: Path, policy: Policy) -> None:
        """Raise where a record that was to come is not in the store that lies ready.

        Raises:
            WentWrong: One is missing; the first are named.
        """
        told = self._step.target
        target = Store(told.records, ready, told.declared)
        with Merge(sources, target, policy, self._far.passed) as again:
            names = again.merged.names
            missing = (*names.get("new", ()), *names.get("different", ()))
            if again.changes:
                raise _missing(self._path, ", ".join(missing[:10]))


def _missing(path: str, why: str) -> WentWrong:
    todo = "Check the disk, then walk again; nothing was copied to its place."
    return WentWrong("records that were written are not there", where=path, why=why, todo=todo)


def _facts(to: str, merged: Merged) -> RecordsFacts:
    count = merged.count
    different = count.get("different", 0)
    left = max(0, different - merged.changed - max(0, merged.added - count.get("new", 0)))
    return RecordsFacts(
        to=to,
        held=merged.held,
        added=merged.added,
        changed=merged.changed,
        same=count.get("same", 0),
        left=left,
        unwanted=count.get("unwanted", 0),
        left_names=merged.names.get("different", ()) if left else (),
        lost=dict(merged.lost),
    )


def _ended(step: Step, doing: Has, facts: RecordsFacts, kept: Sequence[str]) -> Done:
    return Done(facts.model_copy(update={"backed_up": tuple(kept)}))
