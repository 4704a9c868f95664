"""Consent to recipes that may do more than when they were used on this computer last."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from widetrail.cli.output import Page, consent
from widetrail.library.accepted_recipes import Grown
from widetrail.trust import COMPUTERS, Permission

MORE = "more"
"""The word of ``--allow`` by which that is consented to without being asked."""


def show_permissions(page: Page, permissions: Sequence[Permission], indent: int) -> None:
    """Show what recipes may do, by kind."""
    from widetrail.reporting.sheet_page import may_do, on_which  # only where there is something

    for title, several in may_do(permissions):
        for may in several:
            on = ", ".join(filter(None, (COMPUTERS[may.station], on_which(may))))
            page.line(f"{title}: {may.what} ({on})", indent=indent)
            if may.told:
                page.line(f"wherever {may.told} says", "dim", indent=indent + 2)


def show_grown(page: Page, grown: Sequence[Grown]) -> None:
    """Show which recipes may do more, and what."""
    for one in grown:
        known = f"revision {one.before}" if one.before else "the one that was"
        page.title(f"{one.name} may do more than {known} used here before")
        show_permissions(page, one.more, 2)


def consent_to_grown(grown: Sequence[Grown], allowed: Iterable[str]) -> None:
    """Ask for consent to that, unless it was given beforehand.

    Raises:
        Halted: Nobody can be asked, or consent was not given.
    """
    if grown:
        todo = f"Read what is listed above, then add --allow {MORE}."
        consent(MORE in allowed, "May they do that?", todo)
