"""The machines of a draft's rehearsal: one with what the program uses, one with it alone."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path

import yaml

from widetrail.finding.stores import file_with
from widetrail.formats.registry_writing import write_registry
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import FILE, REGISTRY
from widetrail.machine.paths import is_within, join, parent
from widetrail.tracing.classes import is_left_secret
from widetrail.tracing.lab import Screen, run, steady
from widetrail.tracing.lists import empty_list
from widetrail.tracing.parts import data_of, form_of, store_values, take_away
from widetrail.tracing.places import DraftPlace, template_of
from widetrail.tracing.record import CHANGING, Trace
from widetrail.tracing.sample_names import make_up_account, make_up_files
from widetrail.tracing.scrubbing import Shape, scrub, shape_of

NEW_USER = "new.person"
"""The account of the new machine."""


class Samples:
    """Makes machines like the one that a trace was made of.

    What the program does not use is not on them, nor a secret that it does not need.
    """

    def __init__(
        self, trace: Trace, machine: FolderMachine, places: Sequence[DraftPlace], said: str
    ) -> None:
        """``said`` is the recipe as text: what it names is called so in the samples too."""
        self._trace, self._machine, self._places = trace, machine, places
        self._said = said

    def make_old(self, folder: Path) -> list[str]:
        """Make the machine that has what the program uses, its words made up; return questions."""
        sample = self._begin(folder, {})
        if (self._machine.folder / REGISTRY).exists():
            shutil.copyfile(self._machine.folder / REGISTRY, folder / REGISTRY)
        for place in self._places:
            for path in place.paths if place.folder else ():
                self._make_folders(path, sample)
        self._copy((*self._installed(), *self._used()), sample)
        self._take_others_away(sample)
        used = [one for place in self._places for one in place.used]
        data = [one.path for one in used if one.kind in ("data", "unclear")]
        secrets = [one.path for one in used if one.kind == "secret"]

        questions = [
            f"{path} holds what was written there on the traced machine: may others see it?"
            for path in scrub(sample, data, lambda: self._look(sample), secrets)
        ]
        kinds = Counter(one.path.rpartition(".")[2] for one in used if one.kind == "setting")
        several = [p for p in (one.path for one in used) if kinds[p.rpartition(".")[2]] > 1]
        return [*questions, *self._with_names(folder, [*data, *several])]

    def _take_others_away(self, sample: FolderMachine) -> None:
        """Take values of other programs out of the sample's stores, where this one shows the same
        without them."""
        mine = {shows.part for shows in self._trace.shows if shows.needed}
        mine |= {told.value for told in self._trace.tells if told.proved != "no"}
        others = [part for part in store_values(sample) if part not in mine]
        file = sample.folder / REGISTRY
        if others and file.exists():
            was, usual = file.read_bytes(), self._look(sample)
            take_away(sample, others)
            if self._look(FolderMachine(sample.folder)) != usual:
                file.write_bytes(was)

    def _with_names(self, folder: Path, data: Sequence[str]) -> Iterator[str]:
        """Make up the names in the sample; give a question for each that stays."""

        def look(machine: FolderMachine) -> Shape:
            return shape_of(self._look(machine))

        changed = self._changed_at_starts()
        held = ((place, path) for place in self._places for path in data)
        names = dict.fromkeys(
            name
            for place, path in held
            if place.holds(path, self._machine)
            for name in (place.rest(path).split("/")[1:])
        )
        for name in make_up_files(folder, names, self._said, changed, look):
            yield f"{name} is called as on the traced machine: may others see it?"
        if not make_up_account(folder, look):
            yield f"{self._machine.user} is the account's name in the sample: may others see it?"

    def _look(self, machine: FolderMachine) -> Screen:
        done = run(machine, self._trace.screen)
        return Screen(done.status, "\n".join(steady(done.output, self._trace.unstable)))

    def make_new(self, folder: Path, identity: str) -> list[str]:
        """Make the machine of another account that has the program alone; return questions."""
        sample = self._begin(folder, {"user": NEW_USER, "identity": identity})
        if (self._machine.folder / REGISTRY).exists():
            (folder / REGISTRY).write_bytes(write_registry([]))
        self._copy(self._installed(), sample)
        return list(self._begin_lists(sample))

    def changed_at_starts(self, machine: FolderMachine) -> list[str]:
        """Return what the program changes whenever it is started, as paths of ``machine``."""
        changed = self._changed_at_starts()
        found = dict.fromkeys(self._on_new(machine, path) for path in changed)
        return [path for path in found if "/" in path and not path.startswith("HKEY_")]

    def _changed_at_starts(self) -> list[str]:
        touched = (t for run in self._trace.runs if run.kind == "start" for t in run.touched)
        return [touch.path for touch in touched if CHANGING & set(touch.ways)]

    def _begin(self, folder: Path, changed: dict[str, str]) -> FolderMachine:
        file = yaml.load((self._machine.folder / FILE).read_bytes(), yaml.CBaseLoader)
        file["machine"] = folder.name
        file["programs"] = [p for p in file["programs"] if p["path"] == self._trace.program]
        for name in ("running", *(("home", "redirected") if changed else ())):
            file.pop(name, None)
        for disk in file["disks"].values():
            (folder / disk["folder"]).mkdir(parents=True)
        told = yaml.safe_dump({**file, **changed}, allow_unicode=True)
        (folder / FILE).write_text(told, encoding="utf-8")
        sample = FolderMachine(folder)
        for root in ("home", "documents", "config", "data", "temp"):
            sample.host(sample.root(root)).mkdir(parents=True, exist_ok=True)
        return sample

    def _copy(self, paths: Sequence[str], sample: FolderMachine) -> None:
        for path in paths:
            target = sample.host(path)
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(self._machine.host(path), target, follow_symlinks=False)

    def _make_folders(self, path: str, sample: FolderMachine) -> None:
        for entry in self._machine.walk(path):
            if entry.kind == "folder":
                sample.host(join(path, entry.path)).mkdir(parents=True, exist_ok=True)

    def _begin_lists(self, sample: FolderMachine) -> Iterator[str]:
        """Make the lists that name places, empty, as a first start would; give a question each."""
        for place in self._places:
            if place.told is None or place.listed is None:
                continue
            value = place.told.value
            target = sample.host(self._on_new(sample, value.path))
            target.parent.mkdir(parents=True, exist_ok=True)
            form = form_of(value.path, data := data_of(self._machine, value.path))
            assert form is not None, "it holds the list"
            target.write_bytes(file_with(form, data, {place.listed[0]: empty_list(form)}))
            yield (f"{value.path} must exist on the new computer: is one start enough?")

    def _on_new(self, sample: FolderMachine, path: str) -> str:
        template = template_of(self._machine, path)
        root, _, rest = template[1:].partition("}")
        return join(sample.root(root), rest) if template else path

    def _installed(self) -> tuple[str, ...]:
        folder = parent(self._trace.program)
        if self._machine.look(self._trace.program) is None:
            return ()
        if folder in {"/usr/bin", "/bin"}:  # everybody's
            return (self._trace.program,)
        entries = self._machine.walk(folder)
        return tuple(join(folder, entry.path) for entry in entries if entry.kind == "file")

    def _used(self) -> Iterator[str]:
        installed, platform = parent(self._trace.program), self._machine.platform
        for place in self._places:
            for one in place.used:
                if not is_within(one.path, installed, platform) and not is_left_secret(one):
                    yield one.path
