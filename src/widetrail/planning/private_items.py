"""What of an item only the account may read, and items that are secrets."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import chain

from widetrail.finding import Found
from widetrail.machine import Entry
from widetrail.planning.draft import Draft, Subject, title_of
from widetrail.recipe import Route


def tell_private(subject: Subject, route: Route, entries: Iterable[Entry], draft: Draft) -> None:
    """Tell what is a secret, or nobody but the account may read."""
    if subject.item.kind == "secret" and route.fills_parcel:
        only = "it travels sealed, and nobody but the account may read it on the new computer"
        draft.notices.append(f"{subject.id} is a secret: {only}")
    if subject.finder.machine.rules.has_modes and _is_private(subject, entries):
        draft.private.append(title_of(subject))


def _is_private(subject: Subject, entries: Iterable[Entry]) -> bool:
    """Return whether something of an item may be read by nobody but the account."""
    place = subject.old_place
    if not isinstance(place, Found) or place.kind not in ("folder", "file"):
        return False
    top = subject.finder.machine.look(place.path)
    seen = chain(entries, [top] if top is not None else [])
    return any(e.mode & 0o077 == 0 and e.kind in ("file", "folder") for e in seen)
