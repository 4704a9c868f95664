"""Consent to starting programs only to read what they print."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.cli.output import Page, consent
from widetrail.finding import find_application
from widetrail.machine import Machine
from widetrail.recipe import Loaded


def may_ask(machine: Machine, recipes: Sequence[Loaded], yes: bool) -> bool:
    """List the commands that readings would start, and return whether the person consents.

    Raises:
        Halted: Nobody can be asked, or consent was not given.
    """
    commands = [
        command
        for loaded in recipes
        for finder in [find_application(machine, loaded)]
        if finder.installation is not None
        for command in finder.commands()
    ]
    if not commands:
        return True
    page = Page(to_errors=True)
    page.line(f"These commands would be started on {machine.name}, only to read what they print:")
    for command in commands:
        page.line(f"- {command}", indent=2)
    consent(yes, "Start them?")
    return True
