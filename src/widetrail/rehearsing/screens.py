"""What a program prints, and whether that shows anything: it must change when its machine does.

A print-out that is the same whatever is there proves no move. So it is taken once more for each
recipe, on a copy of a machine on which nothing is left of what the recipe's items stand for.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from widetrail.errors import InputUnusable, WideTrailError
from widetrail.finding import Finder, find_application
from widetrail.finding.stores import Store, StoreKind, store_kind
from widetrail.finding.values import things_at
from widetrail.findings import Finding
from widetrail.formats.documents import mark_at
from widetrail.machine import Channels, Completed, FolderMachine
from widetrail.recipe import Loaded
from widetrail.recipe.printouts import Printout
from widetrail.recipe.templates import fill
from widetrail.rehearsing.expectations import Printed
from widetrail.rehearsing.machine_copies import copy_machine
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.rehearsal_file import RehearsalFile
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.stage import fast_folder, machines_near, prepared_copy


def constant_screens(
    ran: Iterable[tuple[Rehearsal, Rehearsed]], machines: Path | None = None
) -> list[Finding]:
    """Return a finding for each recipe whose program prints the same where nothing is left.

    Of the rehearsals that passed and look at the screen, the first of each recipe is taken, with
    its old machine; ``machines`` is the folder that holds them, as for ``rehearse``.
    """
    found: dict[str, Finding | None] = {}
    for rehearsal, result in ran:
        wants = rehearsal.file.expect.screen is not None and result.passed and result.recipes
        if not wants or result.recipes[0] in found:
            continue
        loaded = rehearsal.recipes()
        found[loaded[0].id] = next(iter(_judged(rehearsal, loaded, machines)), None)
    return [finding for finding in found.values() if finding is not None]


def _judged(
    rehearsal: Rehearsal, loaded: tuple[Loaded, ...], machines: Path | None
) -> Iterator[Finding]:
    source = machines or machines_near(rehearsal.path)
    side = rehearsal.file.old
    with tempfile.TemporaryDirectory(prefix="widetrail-screen-", dir=fast_folder()) as folder:
        whole, bare = Path(folder) / "whole", Path(folder) / "bare"
        for copy in (whole, bare):
            prepared_copy(source / side.machine, copy, side, loaded)
        _take_all(FolderMachine(bare), loaded)
        screen = screen_of(rehearsal.file, loaded[0])
        assert screen is not None, "what is printed was looked at"
        machines_of = [FolderMachine(m) for m in (whole, bare)]
        program = find_application(machines_of[0], loaded[0])
        one, other = (
            _starter(replace(program, machine=m), screen, rehearsal.file.all_hands)()
            for m in machines_of
        )
        if (one.status, one.output) == (other.status, other.output):
            at, _ = mark_at(loaded[0].tree, ("application", "screen"))
            message = "what the program prints is the same where nothing of its items is left"
            hint = "Use a command that prints what a person sees, such as lists and counts"
            yield Finding(
                loaded[0].file,
                at.line,
                at.column,
                "constant-screen",
                "application.screen",
                message,
                hint,
            )


def screen_of(file: RehearsalFile, loaded: Loaded) -> Printout | None:
    """Return the command that prints what a person sees: the rehearsal's own, or the recipe's."""
    return file.screen if file.screen is not None else loaded.recipe.application.screen


def _take_all(machine: FolderMachine, recipes: Sequence[Loaded]) -> None:
    """Remove all that the items of the first recipe stand for, on a copy of a machine."""
    lenders = {loaded.id: find_application(machine, loaded) for loaded in recipes[1:]}
    finder = find_application(machine, recipes[0], lenders=lenders)
    for item in recipes[0].recipe.items.values():
        for path, kind in things_at(finder.place(item.from_)):
            if (store := store_kind(item, path, kind)) in ("registry", "dconf"):
                _empty(machine, store, path)
            elif (host := machine.host(path)).is_dir():
                shutil.rmtree(host)
            else:
                host.unlink(missing_ok=True)


def _empty(machine: FolderMachine, kind: StoreKind | None, place: str) -> None:
    assert kind is not None
    store = Store(machine, kind, place)
    try:
        store.change(dict.fromkeys(store.read()))
    except WideTrailError:  # what cannot be changed stays, and then shows the same
        return


def show_screen(machine: FolderMachine, loaded: Loaded) -> Completed:
    """Start the application's ``screen`` command on ``machine`` and return what it printed.

    Raises:
        InputUnusable: The recipe names no screen, or the program is not installed.
    """
    screen = loaded.recipe.application.screen
    if screen is None:
        raise InputUnusable("the recipe has no screen", where=loaded.file)
    return _starter(find_application(machine, loaded), screen, {})()


def _starter(
    finder: Finder, screen: Printout, answers: Mapping[str, object]
) -> Callable[[], Completed]:
    """Return what starts a ``screen`` command; nothing is looked for then.

    ``answers`` are what is answered to what the recipe asks for.
    """

    def known(name: str) -> str:
        answer = answers.get(name)
        return answer if isinstance(answer, str) else finder.value_of(name)

    name, *told = screen.run
    program, arguments = finder.programs()[name], [fill(argument, known) for argument in told]
    said = f"{fill(screen.stdin, known)}\n".encode() if screen.stdin is not None else b""
    return lambda: finder.machine.start(program, arguments, channels=Channels(said))


def printing_of(
    machine: FolderMachine, loaded: Loaded, screen: Printout | None, answers: Mapping[str, object]
) -> Callable[[], Printed]:
    """Return what starts the program and gives what it prints: nothing where it is not there."""
    finder = find_application(machine, loaded)
    if screen is None or finder.installation is None:
        return lambda: Printed("")
    start = _starter(finder, screen, answers)

    def printed() -> Printed:
        if screen.on == "copy":
            done = _started_on_copy(machine, loaded, screen, answers)
        else:
            done = start()
        well = done.status in screen.exit
        return Printed(done.output if well else done.errors, 0 if well else done.status or 1)

    return printed


def _started_on_copy(
    machine: FolderMachine, loaded: Loaded, screen: Printout, answers: Mapping[str, object]
) -> Completed:
    """Start a ``screen`` command on a copy of the machine, which is thrown away."""
    with tempfile.TemporaryDirectory(prefix="widetrail-screen-", dir=fast_folder()) as folder:
        twin = Path(folder) / machine.folder.name
        copy_machine(machine.folder, twin)
        return _starter(find_application(FolderMachine(twin), loaded), screen, answers)()
