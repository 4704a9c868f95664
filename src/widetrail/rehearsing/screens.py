"""What a program prints on a machine, as a person sees it."""

from __future__ import annotations

import pickle
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.finding import Finder, find_application
from widetrail.formats import digest
from widetrail.formats.kept_answers import KeptAnswers
from widetrail.machine import Channels, Completed, FolderMachine
from widetrail.recipe import Loaded
from widetrail.recipe.printouts import Printout
from widetrail.recipe.templates import fill
from widetrail.rehearsing.expectations import Printed
from widetrail.rehearsing.machine_copies import contents, copy_machine
from widetrail.rehearsing.rehearsal_file import RehearsalFile
from widetrail.rehearsing.stage import fast_folder


def screen_of(file: RehearsalFile, loaded: Loaded) -> Printout | None:
    """Return the command that prints what a person sees: the rehearsal's own, or the recipe's."""
    return file.screen if file.screen is not None else loaded.recipe.application.screen


def show_screen(machine: FolderMachine, loaded: Loaded) -> Completed:
    """Start the application's ``screen`` command on ``machine`` and return what it printed.

    Raises:
        InputUnusable: The recipe names no screen, or the program is not installed.
    """
    screen = loaded.recipe.application.screen
    if screen is None:
        raise InputUnusable("the recipe has no screen", where=loaded.file)
    return starter(find_application(machine, loaded), screen, {})()


def starter(
    finder: Finder, screen: Printout, answers: Mapping[str, object]
) -> Callable[[], Completed]:
    """Return what starts a ``screen`` command; nothing is looked for then.

    ``answers`` are what is answered to what the recipe asks for.
    """
    program, arguments, said = _command(finder, screen, answers)
    return lambda: finder.machine.start(program, arguments, channels=Channels(said))


def _command(
    finder: Finder, screen: Printout, answers: Mapping[str, object]
) -> tuple[str, list[str], bytes]:
    """Return the program of a ``screen`` command, its arguments and its standard input."""

    def known(name: str) -> str:
        answer = answers.get(name)
        return answer if isinstance(answer, str) else finder.value_of(name)

    name, *told = screen.run
    said = f"{fill(screen.stdin, known)}\n".encode() if screen.stdin is not None else b""
    return finder.programs()[name], [fill(argument, known) for argument in told], said


def printing_of(
    machine: FolderMachine, loaded: Loaded, screen: Printout | None, answers: Mapping[str, object]
) -> Callable[[], Printed]:
    """Return what starts the program and gives what it prints: nothing where it is not there."""
    return _printing(find_application(machine, loaded), screen, answers)


def _printing(
    finder: Finder, screen: Printout | None, answers: Mapping[str, object]
) -> Callable[[], Printed]:
    if screen is None or finder.installation is None:
        return lambda: Printed("")
    start = starter(finder, screen, answers)

    def printed() -> Printed:
        done = _started_on_copy(finder, screen, answers) if screen.on == "copy" else start()
        well = done.status in screen.exit
        return Printed(done.output if well else done.errors, 0 if well else done.status or 1)

    return printed


def printing_again(
    machine: FolderMachine,
    loaded: Loaded,
    screen: Printout | None,
    answers: Mapping[str, object],
    held: Mapping[str, str],
) -> Callable[[], Printed]:
    """Return what gives what the program prints as ``printing_of`` does, on a machine that holds
    ``held``: what the same command printed before where the same was held, if it changed nothing
    there and names no folder of this computer. Only for who tries many recipes on the same
    machines.
    """
    finder = find_application(machine, loaded)
    printing = _printing(finder, screen, answers)
    if screen is None or finder.installation is None:
        return printing
    asked = screen.model_dump_json(), _command(finder, screen, answers), sorted(held.items())
    key = digest(pickle.dumps(asked))

    def printed() -> Printed:
        if (kept := _printed_before.get(key)) is not None:
            before: Printed = pickle.loads(kept)  # it was never out of this process
            return before
        printed = printing()
        if str(machine.folder.parent) not in printed.text and contents(machine) == held:
            _printed_before.keep(key, pickle.dumps(printed))
        return printed

    return printed


_printed_before = KeptAnswers()


def _started_on_copy(finder: Finder, screen: Printout, answers: Mapping[str, object]) -> Completed:
    """Start a ``screen`` command on a copy of the machine, which is thrown away."""
    machine = finder.machine
    assert isinstance(machine, FolderMachine), "rehearsals are on folder machines"
    with tempfile.TemporaryDirectory(prefix="widetrail-screen-", dir=fast_folder()) as folder:
        twin = Path(folder) / machine.folder.name
        copy_machine(machine.folder, twin)
        return starter(find_application(FolderMachine(twin), finder.loaded), screen, answers)()
