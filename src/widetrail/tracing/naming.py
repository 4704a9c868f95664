"""What a program is called in a recipe, and which names are no program's."""

from __future__ import annotations

import re

from widetrail.lazily import dataclass
from widetrail.machine.paths import base
from widetrail.tracing.record import Trace


@dataclass(frozen=True)
class Naming:
    """What a program is called in a recipe."""

    id: str
    name: str
    maker: str


def usual_naming(trace: Trace) -> Naming:
    """Return what the program is probably called, by its file."""
    stem = re.sub(r"\.(exe|app|cmd|bat)$", "", base(trace.program), flags=re.IGNORECASE)
    plain = re.sub(r"[^a-z0-9]+", "-", stem.casefold()).strip("-") or "program"
    return Naming(plain, stem.capitalize(), "unknown")


def is_personal(name: str) -> bool:
    """Return whether a person, rather than a program, may have called a file so."""
    stem = name.rpartition(".")[0] or name
    return bool(re.search(r"[^\W\d_]\s|\s[^\W\d_]|[A-ZÀ-Þ]|[^\x00-\x7f]", stem))
