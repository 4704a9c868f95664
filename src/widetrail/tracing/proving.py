"""A recipe proved by taking away: what it takes is needed, and what it leaves is not missed.

The program's own print-out judges. Where that is silent nothing is proved: it is told, and the
recipe goes on taking it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Literal

from widetrail.errors import InputUnusable
from widetrail.finding import Found, Selection, find_application
from widetrail.finding.stores import Store, is_value, selected, store_kind
from widetrail.finding.values import things_at
from widetrail.formats import Unreadable
from widetrail.formats.documents import mark_at
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.paths import is_within, join
from widetrail.recipe import Item, Loaded
from widetrail.tracing.experiments import Experiments, watched
from widetrail.tracing.lab import Lab
from widetrail.tracing.parts import settings_among, shown, value_parts
from widetrail.tracing.proving_paths import path_lines
from widetrail.tracing.record import Part
from widetrail.tracing.shapes import patterns

Verdict = Literal["needed", "silent", "missed", "made again", "not missed"]
"""Of what a recipe takes: the program shows something else without it, or the same. Of what it
leaves: the program misses it, misses it and the recipe has it made again, or does not."""


@dataclass(frozen=True)
class Proof:
    """A verdict on one line of a recipe, or on what it leaves: ``item`` is empty for what no item
    stands for.

    ``what`` names the parts, or what a line is for; ``usual`` and ``without`` are a line of each
    print-out.
    """

    verdict: Verdict
    item: str
    line: int
    what: str
    usual: str = ""
    without: str = ""
    parts: int = 1


@dataclass(frozen=True)
class Proofs:
    """All verdicts, how often the program was started, and whether the set is minimal: each part
    that is needed was taken away alone beside what is needed, and was noticed."""

    proofs: tuple[Proof, ...]
    starts: int
    needed: tuple[Part, ...]
    silent: tuple[Part, ...]

    @property
    def holds(self) -> bool:
        """Whether nothing that the recipe leaves is missed."""
        return not any(proof.verdict == "missed" for proof in self.proofs)


def prove(loaded: Loaded, folder: Path, told: Callable[[str], None] = lambda text: None) -> Proofs:
    """Take away what a recipe takes and what it leaves, on copies of the machine in ``folder``.

    Raises:
        InputUnusable: The recipe names no screen, or what the program prints cannot be compared.
    """
    return _Proving(loaded, folder, told).all()


class _Proving:
    def __init__(self, loaded: Loaded, folder: Path, told: Callable[[str], None]) -> None:
        screen = loaded.recipe.application.screen
        if screen is None:
            raise InputUnusable("the recipe has no screen", where=loaded.file)
        self._loaded, self._told = loaded, told
        self._machine = FolderMachine(folder)
        self._finder = find_application(self._machine, loaded)
        program = self._finder.programs()[screen.run[0]]
        told("what it prints")
        self._lab = Lab(folder, program, [program, *screen.run[1:]])
        self._taken = {n: list(self._parts_of(i)) for n, i in loaded.recipe.items.items()}

    def all(self) -> Proofs:
        taken = list(dict.fromkeys(p for parts in self._taken.values() for p in parts))
        if not taken:
            raise InputUnusable("nothing of the recipe's items is there", where=self._loaded.file)
        touched, sees = watched(self._lab)
        used = Experiments(self._lab, touched, (), sees=sees).files
        left = [part for part in used if part not in set(taken)]
        proofs = list(self._of_left(left, taken))
        self._told(f"taking away {len(taken)} parts that the recipe takes")
        needed = self._lab.least(taken)
        values = [v for f in self._settings(needed) for v in value_parts(self._machine, f)]
        self._told(f"taking away {len(values)} values of files that the recipe takes")
        needed += self._lab.least(values)
        self._add(values)
        proofs += self._of_taken(needed)
        silent = [part for part in (*taken, *values) if part not in set(needed)]
        return Proofs(tuple(proofs), self._lab.trials, tuple(needed), tuple(silent))

    def _settings(self, parts: Sequence[Part]) -> list[str]:
        return sorted(settings_among(self._machine, (part.path for part in parts if part.is_file)))

    def _add(self, values: Sequence[Part]) -> None:
        """Add values of files to what the items stand for that take the files."""
        for parts in self._taken.values():
            mine = {part.path for part in parts if part.is_file}
            parts += [value for value in values if value.path in mine]

    def _of_left(self, left: Sequence[Part], taken: Sequence[Part]) -> Iterator[Proof]:
        """Judge what the program uses and the recipe leaves."""
        self._told(f"taking away {len(left)} files that the recipe leaves")
        missed = self._lab.least(left)
        for part in missed:
            usual, without = self._lab.difference(self._lab.without([part]))
            verdict: Verdict = "made again" if self._is_made_again(part.path) else "missed"
            yield Proof(verdict, "", 1, part.path, usual, without)
        rest = [part.path for part in left if part not in set(missed)]
        for pattern, paths in patterns(rest).items():
            yield Proof("not missed", "", 1, pattern, parts=len(paths))

    def _is_made_again(self, path: str) -> bool:
        """Return whether a command that the recipe runs on new makes what is there."""
        legs = (leg for i in self._loaded.recipe.items.values() for r in i.routes for leg in r.legs)
        steps = (step for leg in legs for step in leg.new or ())
        made = {name for step in steps for name in getattr(step.rule, "changes", ())}
        found = (self._finder.place(name) for name in made)
        return any(
            is_within(path, where.path, self._machine.platform)
            for where in found
            if isinstance(where, Found)
        )

    def _of_taken(self, needed: Sequence[Part]) -> Iterator[Proof]:
        for name, parts in self._taken.items():
            if not parts:
                continue
            line = mark_at(self._loaded.tree, ("items", name))[0].line
            whole = self._lab.without(parts)
            usual, without = self._lab.difference(whole)
            missed = not self._lab.same(whole)
            yield Proof(
                "needed" if missed else "silent",
                name,
                line,
                "all of it",
                usual if missed else "",
                without if missed else "",
                len(parts),
            )
            mine = {
                verdict: self._split(parts, needed, wanted=verdict) for verdict in (True, False)
            }
            for is_needed, told in mine.items():
                for pattern, some in told.items():
                    yield self._one(name, line, pattern, some, is_needed=is_needed)
            yield from self._of_paths(name, {part.path for part in parts if part.is_file})

    def _of_paths(self, name: str, files: set[str]) -> Iterator[Proof]:
        """Judge the lines of an item that make paths right."""
        finder, machine = self._finder, self._machine
        for one in path_lines(self._loaded, finder, machine, name, files.__contains__):
            shown = self._lab.after(one.change)
            verdict: Verdict = "silent" if self._lab.same(shown) else "needed"
            lines = self._lab.difference(shown) if verdict == "needed" else ("", "")
            yield Proof(verdict, name, one.line, one.what, *lines, one.count)

    def _split(
        self, parts: Sequence[Part], needed: Sequence[Part], wanted: bool
    ) -> dict[str, list[Part]]:
        mine = [part for part in parts if (part in set(needed)) == wanted]
        by_name = {shown(part): part for part in mine}
        return {p: [by_name[n] for n in names] for p, names in patterns(by_name).items()}

    def _one(
        self, item: str, line: int, pattern: str, parts: Sequence[Part], *, is_needed: bool
    ) -> Proof:
        if not is_needed:
            return Proof("silent", item, line, pattern, parts=len(parts))
        usual, without = self._lab.difference(self._lab.without(parts[:1]))
        return Proof("needed", item, line, pattern, usual, without, len(parts))

    def _parts_of(self, item: Item) -> Iterator[Part]:
        """Give what an item stands for on the machine: its files, or its values."""
        for path, kind in things_at(self._finder.place(item.from_)):
            store = store_kind(item, path, kind)
            if store in ("registry", "dconf"):
                yield from self._values(item, path, store)
            elif (entry := self._machine.look(path)) is not None and entry.kind == "folder":
                selection = Selection(item, self._machine.platform)
                for one in selection.walk(self._machine, path):
                    if one.kind != "folder":
                        yield Part(join(path, one.path))
            else:
                yield Part(path)

    def _values(self, item: Item, path: str, kind: Literal["registry", "dconf"]) -> Iterator[Part]:
        try:
            values = selected(kind, item, Store(self._machine, kind, path).read())
        except Unreadable:
            return
        for name in values:
            if is_value(name):
                yield Part(path, kind, name)
