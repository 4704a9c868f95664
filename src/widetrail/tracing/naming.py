"""What a program is called in a recipe."""

from __future__ import annotations

import re
from dataclasses import dataclass

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
