"""What the application's own command prints, as a person sees it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from widetrail.errors import InputUnusable
from widetrail.finding import Finder, find_application
from widetrail.machine import Completed, FolderMachine
from widetrail.recipe import Loaded
from widetrail.rehearsing.expectations import (
    Printed,
)


def show_screen(machine: FolderMachine, loaded: Loaded) -> Completed:
    """Start the application's ``screen`` command on ``machine`` and return what it printed.

    Raises:
        InputUnusable: The recipe names no screen, or the program is not installed.
    """
    application = loaded.recipe.application
    if not application.screen:
        raise InputUnusable("the recipe names no screen", where=loaded.file)
    return _starter(find_application(machine, loaded))()


def _starter(finder: Finder) -> Callable[[], Completed]:
    """Return what starts the application's ``screen`` command; nothing is looked for then."""
    program, arguments = screen_command(finder)
    return lambda: finder.machine.start(program, arguments)


def screen_command(finder: Finder) -> tuple[str, Sequence[str]]:
    """Return the program that prints what a person sees, and its arguments."""
    name, *arguments = finder.loaded.recipe.application.screen
    return finder.programs()[name], arguments


def printing_of(machine: FolderMachine, loaded: Loaded) -> Callable[[], Printed]:
    """Return what starts the program and gives what it prints: nothing where it is not there."""
    finder = find_application(machine, loaded)
    if not loaded.recipe.application.screen or finder.installation is None:
        return lambda: Printed("")
    start = _starter(finder)

    def printed() -> Printed:
        done = start()
        return Printed(done.output if done.status == 0 else done.errors, done.status)

    return printed
