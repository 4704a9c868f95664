"""Where Wide Trail itself keeps things on the computer it runs on."""

from __future__ import annotations

import os
import platform as system_platform
from pathlib import Path

from widetrail.machine.interface import Machine
from widetrail.machine.paths import is_within, join
from widetrail.machine.platforms import PLATFORMS, this_platform
from widetrail.machine.roots import redirected_by_xdg, standard_roots

OWN_STATE = "widetrail"
"""The folder of what is the tool's own, below ``state`` and ``cache`` of any machine."""


def own_on(machine: Machine) -> str:
    """Return the folder of a machine that is the tool's own."""
    return join(machine.root("state"), OWN_STATE)


def own_below(machine: Machine, folder: str) -> tuple[str, ...]:
    """Return the path below ``folder`` at which a machine keeps what is the tool's own, if it lies
    there: no item takes that along, and none takes its place."""
    own = own_on(machine)
    within = is_within(own, folder, machine.platform)
    return (own[len(folder) :].strip("/"),) if within else ()


def own_cache() -> Path:
    """Return the folder for what Wide Trail itself keeps to be quicker, for the account it runs as;
    it need not be there."""
    return _own_root("cache")


def _own_root(name: str) -> Path:
    """Return Wide Trail's own folder below a root of the account it runs as; it need not be
    there."""
    platform = this_platform()
    roots = standard_roots(platform, system_platform.release(), Path.home().as_posix())
    if PLATFORMS[platform].follows_xdg:
        roots |= redirected_by_xdg(os.environ)
    return Path(roots[name]) / OWN_STATE


def own_state() -> Path:
    """Return the folder for what Wide Trail keeps of machines on which it may keep nothing."""
    return _own_root("state")
