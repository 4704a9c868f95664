"""The run's own folders on the volume of what a step changes, and what is kept in them."""

from __future__ import annotations

from widetrail.machine.paths import base, join, split
from widetrail.steps.interface import Doing

STAGING = "staging"
ASIDE = "aside"
SAVED = "saved"


class Room:
    """The run's folders for one item, on the volume of a path, outside every place."""

    def __init__(self, doing: Doing, target: str, item: str) -> None:
        self._machine, self._name = doing.machine, doing.slug(item)
        self._home = doing.workroom
        if self._machine.room(self._home).volume != self._machine.room(target).volume:
            anchor = split(target)[0] or self._machine.room(target).volume
            self._home = join(anchor, ".widetrail", base(doing.workroom))

    def fresh(self, purpose: str) -> str:
        """Return a path under ``purpose`` where nothing is yet; its parent is made."""
        folder = join(self._home, purpose)
        self._machine.effects.make_folders(self._machine.host(folder))
        number, path = 1, join(folder, self._name)
        while self._machine.look(path) is not None:
            number += 1
            path = join(folder, f"{self._name}-{number}")
        return path

    def clear(self, purpose: str) -> None:
        """Remove what this run made under ``purpose``, and its folders where they are empty."""
        host = self._machine.host(join(self._home, purpose))
        if host.is_dir():
            self._machine.effects.remove_tree(host)
        for folder in (host.parent, host.parent.parent):
            ours = ".widetrail" in (folder.name, folder.parent.name)
            if ours and folder.is_dir() and not any(folder.iterdir()):
                self._machine.effects.remove_folder(folder)
