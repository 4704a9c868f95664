"""The room that what is put on a machine takes on its volumes."""

from __future__ import annotations

from collections.abc import Iterable

from widetrail.errors import Halted
from widetrail.formats.quantities import show_size
from widetrail.machine import Machine


def full_volumes(machine: Machine, amounts: Iterable[tuple[str, int]], todo: str) -> list[Halted]:
    """Return an obstacle for each volume of ``machine`` with too little room.

    ``amounts`` are paths with the bytes put there; ``todo`` is what a person does about it.
    """
    needed: dict[str, tuple[int, int]] = {}
    for path, size in amounts:
        room = machine.room(path)
        so_far, _ = needed.get(room.volume, (0, 0))
        needed[room.volume] = so_far + size, room.free
    return [
        Halted(
            f"the disk {volume} of {machine.name} is too full",
            why=f"{show_size(wanted)} are needed, and {show_size(free)} are free",
            todo=todo,
            codes=["room"],
        )
        for volume, (wanted, free) in needed.items()
        if wanted > free
    ]
