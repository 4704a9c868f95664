"""Machines: their files, programs and disks, and the one seam through which they change."""

from __future__ import annotations

from typing import TYPE_CHECKING

from widetrail.lazily import lazily

if TYPE_CHECKING:
    from widetrail.machine.effect_failed import EffectFailed
    from widetrail.machine.effects import Effect, Effects, Gate
    from widetrail.machine.folder import FolderMachine
    from widetrail.machine.host import file_digest
    from widetrail.machine.interface import Channels, Completed, Entry, Machine, Room
    from widetrail.machine.live import LiveMachine, this_machine
    from widetrail.machine.medium import Medium, medium_of
    from widetrail.machine.own_folders import own_cache
else:
    __getattr__ = lazily(
        __name__,
        {
            "effect_failed": ("EffectFailed",),
            "effects": (
                "Effect",
                "Effects",
                "Gate",
            ),
            "folder": ("FolderMachine",),
            "host": ("file_digest",),
            "interface": (
                "Channels",
                "Completed",
                "Entry",
                "Machine",
                "Room",
            ),
            "live": (
                "LiveMachine",
                "this_machine",
            ),
            "medium": (
                "Medium",
                "medium_of",
            ),
            "own_folders": ("own_cache",),
        },
    )

__all__ = [
    "Channels",
    "Completed",
    "Effect",
    "EffectFailed",
    "Effects",
    "Entry",
    "FolderMachine",
    "Gate",
    "LiveMachine",
    "Machine",
    "Medium",
    "Room",
    "file_digest",
    "medium_of",
    "own_cache",
    "this_machine",
]
