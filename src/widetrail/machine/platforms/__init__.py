"""The platforms: one file each with all its rules, and one table of them."""

from __future__ import annotations

import sys
from typing import Annotated

from pydantic import AfterValidator

from widetrail.formats.flaws import expected_one_of
from widetrail.formats.interface import Platform
from widetrail.machine.platforms.linux import LINUX
from widetrail.machine.platforms.macos import MACOS
from widetrail.machine.platforms.rules import PlatformRules, Sample, Scope, Sensitive, StoreName
from widetrail.machine.platforms.windows import WINDOWS

PLATFORMS: dict[Platform, PlatformRules] = {p.name: p for p in (WINDOWS, MACOS, LINUX)}
"""The platforms by their names."""

STRICTEST = WINDOWS.name
"""The platform whose names every volume holds: media are used by all."""

PLAINEST = LINUX.name
"""The platform on which names are told apart byte by byte, as a parcel holds them."""


def this_platform() -> Platform:
    """Return the platform that this process runs on."""
    return next((p.name for p in PLATFORMS.values() if p.host == sys.platform), LINUX.name)


def _check(name: str) -> Platform:
    if name not in PLATFORMS:
        raise expected_one_of("word", name, list(PLATFORMS))
    return name


PlatformName = Annotated[Platform, AfterValidator(_check)]
"""The name of a platform in a document."""

__all__ = [
    "PLAINEST",
    "PLATFORMS",
    "STRICTEST",
    "Platform",
    "PlatformName",
    "PlatformRules",
    "Sample",
    "Scope",
    "Sensitive",
    "StoreName",
    "this_platform",
]
