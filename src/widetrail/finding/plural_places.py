"""Places that are several folders: by a glob or by the program's own index, and their pairing."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from widetrail.errors import MachineUnusable
from widetrail.finding.globbing import has_glob, matching
from widetrail.finding.readings import ask_database
from widetrail.finding.values import How, Instance, Known, Several
from widetrail.formats import Raw
from widetrail.formats.forms import FORMS
from widetrail.formats.parser_process import ask_form
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.path_notation import understand_path
from widetrail.machine.paths import base, join, key
from widetrail.machine.sensitive import never_a_place
from widetrail.recipe import Globs
from widetrail.recipe.places import Index, Place, PlaceKind


def by_glob(machine: Machine, place: Place, path: str, case: int) -> Several:
    """Return the folders that ``path`` matches.

    Raises:
        MachineUnusable: They cannot be looked at.
    """
    if has_glob(path):
        found = [p for p, entry in matching(machine, path) if entry.kind == "folder"]
    else:
        entry = machine.look(path)
        found = [path] if entry is not None and entry.kind == "folder" else []
    how = How("each", case, path)
    instances = [Instance(p, base(p), None, how, machine.synced(p)) for p in found]
    return _held(machine, place, instances, [])


def by_index(
    machine: Machine, place: Place, index: Index, source: str, case: int
) -> Several | None:
    """Return the folders that a program's index lists, or ``None`` where there is no index.

    Raises:
        MachineUnusable: The index cannot be read.
        Unreadable: It is not what the recipe says.
    """
    recorded = machine.answers.get(asked_of_index(index, source))
    if recorded is None and machine.look(source) is None:
        return None
    instances: list[Instance] = []
    rejected: list[tuple[str, str]] = []
    for entry in recorded if recorded is not None else _entries(machine, index, source):
        told = entry.get(index.path)
        if not isinstance(told, str) or not told:
            rejected.append((source, f'an entry has no "{index.path}"'))
            continue
        path, reason = understand_path(told, machine, source)
        if reason:
            rejected.append((told, reason))
            continue
        how = How("index", case, source)
        name = entry.get(index.name) if index.name is not None else None
        shown = base(path) if name is None else str(name)
        in_use = _in_use(entry.get(index.in_use)) if index.in_use is not None else None
        instances.append(Instance(path, shown, in_use, how, machine.synced(path)))
    return replace(_held(machine, place, instances, rejected), source=source)


def by_list(machine: Machine, place: Place, listed: Known, case: int) -> Several:
    """Return the folders and files that a setting lists, each once, by names of their own.

    Raises:
        MachineUnusable: They cannot be looked at.
    """
    rejected: list[tuple[str, str]] = []
    paths: dict[str, str] = {}
    told = listed.value if isinstance(listed.value, tuple) else (str(listed.value),)
    for text in filter(None, told):
        path, reason = understand_path(text, machine, listed.source)
        if reason:
            rejected.append((text, reason))
        else:
            paths.setdefault(key(path, machine.platform), path)
    how = How("index", case, listed.source)
    instances = [
        Instance(path, name, None, how, machine.synced(path), _kind(machine, path))
        for path, name in zip(paths.values(), _own_names([*paths.values()]), strict=True)
    ]
    return replace(_held(machine, place, instances, rejected), source=listed.source)


def _kind(machine: Machine, path: str) -> PlaceKind:
    entry = machine.look(path)
    return "file" if entry is not None and entry.kind == "file" else "folder"


def _own_names(paths: Sequence[str]) -> list[str]:
    """Return as much of the end of each path as tells it from the others."""
    parts = [path.strip("/").split("/") for path in paths]
    names = []
    for own in parts:
        length = 1
        while length < len(own) and sum(p[-length:] == own[-length:] for p in parts) > 1:
            length += 1
        names.append("/".join(own[-length:]))
    return names


def _entries(machine: Machine, index: Index, source: str) -> Iterator[dict[str, Raw]]:
    form = FORMS[index.form]
    if form.database is not None:
        rows = ask_database(machine, form, source, index.at, {}, rows=True).value
        yield from (row for row in rows if isinstance(row, dict)) if isinstance(rows, list) else ()
        return
    assert form.entries is not None, "a form that is an index has entries"
    for entry in ask_form(form, form.entries, machine.read(source), index.at):
        yield _Folded(entry) if form.folds_names else dict(entry)


def asked_of_index(index: Index, source: str) -> str:
    """Return what an index asks a machine, as ``Finder.asked`` does: recorded answers are a mapping
    for each entry, by the recipe's names for what it takes of one."""
    return f"{source} | {index.at}"


class _Folded(dict[str, Raw]):
    """An ini section: keys are asked for without regard to case."""

    def get(self, name: str | None, default: Raw = None) -> Raw:  # type: ignore[override]
        return super().get((name or "").casefold(), default)


def _in_use(value: Raw) -> bool:
    return str(value).strip().casefold() in ("1", "true", "yes", "on")


def _held(
    machine: Machine,
    place: Place,
    instances: Sequence[Instance],
    rejected: list[tuple[str, str]],
) -> Several:
    """Pass over what is not there or does not hold what it must."""
    kept = []
    for instance in instances:
        reason = never_a_place(instance.path, machine, told=place.each is None)
        reason = reason or _missing(machine, place, instance.path)
        if reason:
            rejected.append((instance.path, reason))
        else:
            kept.append(instance)
    return Several(tuple(kept), tuple(rejected))


def _missing(machine: Machine, place: Place, path: str) -> str:
    try:
        entry = machine.look(path)
        if entry is None:
            return "it is listed, but does not exist"
        if entry.kind != "folder" and (place.listed_in is None or entry.kind != "file"):
            return f"it is a {entry.kind}"
        for wanted in place.contains:
            if not _holds(machine, path, wanted):
                return f"it holds no {wanted}"
    except MachineUnusable as error:
        return str(error)
    return ""


def _holds(machine: Machine, path: str, wanted: str) -> bool:
    if not has_glob(wanted):
        return machine.look(join(path, wanted)) is not None
    matches = Globs([wanted], ignore_case=machine.rules.ignores_case)
    return any(matches(entry.path) for entry in machine.walk(path))


def mark_in_use(several: Several, told: str, machine: Machine) -> Several:
    """Return ``several`` with the one in use marked: ``told`` is its name, folder or path."""
    marked = tuple(
        replace(i, in_use=is_called(told, i.path, machine, i.name)) for i in several.instances
    )
    return replace(several, instances=marked)


def is_called(told: str, path: str, machine: Machine, name: str = "") -> bool:
    """Return whether ``told`` means the folder at ``path``: it is its path, its last name, or the
    name that the program has for it."""
    names = (name, base(path), path) if name else (base(path), path)
    return key(told, machine.platform) in (key(one, machine.platform) for one in names)


@dataclass(frozen=True)
class Pair:
    """An instance on old and the one on new it goes to; ``None`` where one must be registered.

    ``by`` is the rule that matched them: ``name``, ``in use`` or ``register``.
    """

    old: Instance
    new: Instance | None
    by: str


@dataclass(frozen=True)
class Unpaired:
    """An instance on old that no rule of the recipe matches."""

    old: Instance


def pair(old: Several, new: Several, rules: Sequence[str]) -> tuple[Pair | Unpaired, ...]:
    """Match old's instances with new's by the recipe's rules, in order; each is used once."""
    free = list(new.instances)
    found: dict[Instance, Pair] = {}
    for rule in rules:
        for instance in old.instances:
            if instance in found:
                continue
            partner = next((f for f in free if _match(rule, instance, f)), None)
            if partner is not None or rule == "register":
                found[instance] = Pair(instance, partner, rule)
            if partner is not None:
                free.remove(partner)
    return tuple(found.get(i) or Unpaired(i) for i in old.instances)


def _match(rule: str, old: Instance, new: Instance) -> bool:
    if rule == "name":
        return old.name.casefold() == new.name.casefold()
    return rule == "in use" and bool(old.in_use) and bool(new.in_use)
