"""Where records that are merged come from, and which of them are to come."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack
from datetime import datetime

from widetrail.finding import condition_holds
from widetrail.finding.readings import copied_database, insist_own_journal
from widetrail.formats.outside import SafePath
from widetrail.formats.record import InDatabase, Record
from widetrail.machine import Machine
from widetrail.recipe import Globs
from widetrail.recipe.conditions import Condition
from widetrail.records import Policy, Store
from widetrail.steps.cargo import CargoEntry
from widetrail.steps.records_settings import RecordsSettings, ToldStore
from widetrail.steps.records_step import Has, RecordsStep


class Far:
    """Tells how far a merge is: each store is read twice, to judge it and to see that all came."""

    def __init__(self, doing: Has, stores: Sequence[Store]) -> None:
        self._doing, self._begun, self._done = doing, doing.clock(), 0
        self._total = 2 * sum(map(_size, stores))

    def passed(self, size: int) -> None:
        """Take note of bytes that were read."""
        self._done += size
        total = max(self._total, self._done)
        passed = self._doing.clock() - self._begun
        left = (total - self._done) * passed / self._done if self._done else None
        self._doing.onlooker.moves(self._done, total, "bytes", left)


def _size(store: Store) -> int:
    """Return how many bytes a store has, in one file or in many."""
    path = store.path
    files = [path] if path.is_file() else [p for p in path.rglob("*") if p.is_file()]
    return sum(one.stat().st_size for one in files)


def sources_of(step: RecordsStep, doing: Has, scratch: str) -> list[Store]:
    """Return the stores that records come from: files that programs made, and files of the item,
    which are brought to the folder ``scratch``."""
    found = list[Store]()
    for told in step.sources:
        if told.path.startswith("{"):
            path = doing.machine.host(doing.fill(step, told.path))
            found.append(Store(told.records, path, told.declared))
        else:
            found += _packed(step, doing, told, scratch)
    return found


def _packed(step: RecordsStep, doing: Has, told: ToldStore, scratch: str) -> Iterator[Store]:
    """Bring the item's packed files here that a source names; give each as a store."""
    machine = doing.machine
    top = machine.host(scratch)
    machine.effects.make_folders(top, 0o700)
    stores = named((entry.path for entry in _files(step, doing)), told.path)
    for entry in _files(step, doing):
        path, host = entry.path, top / entry.path
        within = any(path == store or path.startswith(f"{store}/") for store in stores)
        if not within or host.exists():
            continue
        machine.effects.make_folders(host.parent, 0o700)
        doing.packed.insist(entry)
        with machine.effects.create(host, 0o600) as file:
            for chunk in doing.packed.chunks(entry):
                file.write(chunk)
    for store in stores:
        if isinstance(told.records, InDatabase):
            insist_own_journal(top / store)
        yield Store(told.records, top / store, told.declared)


def _files(step: RecordsStep, doing: Has) -> Iterator[CargoEntry]:
    return (e for e in doing.packed.of(step.item) if e.kind in ("file", "hard"))


def seen(told: ToldStore, machine: Machine, path: str, lent: ExitStack) -> Store:
    """Return a store where it lies on a machine; a database is ``lent`` in a copy."""
    host = machine.host(path)
    if isinstance(told.records, InDatabase) and machine.look(path) is not None:
        host = SafePath(lent.enter_context(copied_database(machine, path)))
    return Store(told.records, host, told.declared)


def named(paths: Iterable[str], pattern: str) -> list[str]:
    """Return what a glob names of the paths below an item: files, and folders above them."""
    meant, found = Globs([pattern], ignore_case=False), dict[str, None]()
    for path in paths:
        parts = path.split("/")
        above = ("/".join(parts[:count]) for count in range(1, len(parts) + 1))
        if (first := next(filter(meant, above), None)) is not None:
            found[first] = None
    return list(found)


def policy_of(step: RecordsStep, rule: RecordsSettings, now: datetime) -> Policy:
    """Return how the records of a step are merged."""
    wants = _wanted(step, rule, now)
    return Policy(step.duplicates, step.into, step.by_content, wants)


def _wanted(
    step: RecordsStep, rule: RecordsSettings, now: datetime
) -> Callable[[Store, Record], bool] | None:
    """Return what tells whether a record is to come; ``None`` where all are."""
    if not (rule.only or rule.without or step.chosen):
        return None

    def wants(store: Store, record: Record) -> bool:
        told = {"folder": ("/".join(record.folder),)} if record.folder else {}
        said = {**store.records.fields(record, store.declared), **told}

        def holds(name: str, condition: Condition) -> bool:
            values = said.get(name, ())
            return any(condition_holds(condition, value, None, now) for value in values)

        chosen = (set(values) & set(said.get(name, ())) for name, values in step.chosen.items())
        comes = all(chosen) and all(holds(*one) for one in rule.only.items())
        return comes and not any(holds(*one) for one in rule.without.items())

    return wants
