"""The first rehearsal of a draft: another account, on which the program shows the same."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from widetrail.tracing.draft_samples import NEW_USER
from widetrail.tracing.record import Trace


def side_of(machine: Path, changes_itself: Sequence[str]) -> str:
    """Return one machine of a rehearsal, with what its program changes whenever it is started."""
    told: dict[str, object] = {"machine": machine.name}
    if changes_itself:
        told["changes_itself"] = list(changes_itself)
    return json.dumps(told, ensure_ascii=False)


def rehearsal_text(
    trace: Trace, user: str, name: str, items: Iterable[str], sides: Sequence[str]
) -> str:
    """Return the rehearsal of the recipe ``name`` that a trace was drafted into; ``user`` is the
    account of old."""
    lines = [
        "rehearsal: the program shows the same for another user",
        f"recipe: {name}",
        f"old: {sides[0]}",
        f"new: {sides[1]}",
        "expect:",
        *(f"  {json.dumps(item, ensure_ascii=False)}: {{}}" for item in items),
        f"  screen: {_screen(trace, user)}",
    ]
    return "\n".join(lines) + "\n"


def _screen(trace: Trace, user: str) -> str:
    """Return what is expected of the screen: the same, but for lines that name the account or
    change by chance."""
    users = "|".join(re.escape(name) for name in (user, NEW_USER))
    others = [rf"({users})"] if trace.shows_account else []
    others += [
        f"^{'.*'.join(re.escape(text) for text in line.split('#'))}$" for line in trace.unstable
    ]
    return f"{{same_but_for: {json.dumps(others)}}}" if others else "same"
