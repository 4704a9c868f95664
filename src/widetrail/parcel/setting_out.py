"""Setting out: the parcel is made with its plan, before anything is packed."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.formats import digest
from widetrail.formats.outside import SafePath
from widetrail.lazily import dataclass
from widetrail.machine import EffectFailed, Effects
from widetrail.parcel.bag import PAYLOAD, close_bag, folder_mode_in, mode_in
from widetrail.parcel.events import SET_OUT
from widetrail.parcel.layout import CARD
from widetrail.parcel.logbook import FOLDER, Entry, add_generation
from widetrail.parcel.made_files import MADE
from widetrail.parcel.parcel import Parcel
from widetrail.parcel.parcel_signatures import SIGNATURES
from widetrail.parcel.seal import HEADER, KEY, Seal
from widetrail.planning import Choices, Plan
from widetrail.recipe import SUFFIX, Loaded


@dataclass(frozen=True)
class Along:
    """What goes along with a plan.

    ``card`` is new's, so that old can be planned anew when it changed, with the same ``choices``.
    ``sealed`` is what ``make_seal`` made, where the parcel is to be sealed. ``signatures`` are
    those of the bundles that the recipes are from.
    """

    card: bytes | None = None
    choices: Choices | None = None
    sealed: tuple[Seal, bytes] | None = None
    signatures: Sequence[bytes] = ()


def set_out(
    folder: Path,
    plan: Plan,
    recipes: Sequence[Loaded],
    run: str,
    now: datetime,
    effects: Effects,
    along: Along = Along(),  # noqa: B008 - it is frozen
) -> Parcel:
    """Make the parcel for ``plan`` in ``folder``, which must not be there or be empty.

    Nothing is left behind where it cannot be made.

    Raises:
        InputUnusable: Something is there already, or a licence would travel in an open parcel.
        EffectFailed: The medium refused.
    """
    if os.path.lexists(folder) and (not folder.is_dir() or any(folder.iterdir())):
        raise InputUnusable(
            "a parcel cannot be written there",
            where=str(folder),
            why="it already exists",
            todo="Name a folder that is empty or not there yet.",
        )
    folder = SafePath(os.path.realpath(folder))
    sealed = along.sealed
    licences = [item.title for item in plan.items if item.kind == "licence"]
    if licences and sealed is None:
        raise InputUnusable(
            "this plan needs a sealed parcel",
            where=", ".join(licences),
            why="the serial of a licence travels in it",
        )
    plan = plan.model_copy(update={"sealed": sealed is not None})
    existed = folder.is_dir()
    try:
        effects.make_folders(folder, named=True)
        if sealed is None:  # what is private on old is so here, where the medium can hold that
            with suppress(EffectFailed):
                effects.set_mode(folder, 0o700)
        mode = mode_in(folder)
        for name in (FOLDER, PAYLOAD, "data/cargo", "data/index", f"data/{MADE}", "data/recipes"):
            effects.make_folder(folder / name, folder_mode_in(folder))
        effects.put(folder / PAYLOAD / "plan.json", plan.encoded(), mode)
        told = _put_recipes(folder, recipes, along.signatures, effects)
        chosen = (along.choices or Choices()).written()
        when = now.isoformat(timespec="seconds")
        entry = Entry(event=SET_OUT, run=run, plan=plan.id, time=when, choices=chosen)
        if along.card is not None:
            effects.put(folder / PAYLOAD / CARD, along.card, mode)
            entry = entry.with_(card=digest(along.card))
        if told:
            entry = entry.with_(files=told)
        if sealed is not None:
            seal, key = sealed
            entry = entry.with_(seal={HEADER: digest(seal.header()), KEY: digest(key)})
            effects.put(folder / HEADER, seal.header())
            effects.put(folder / KEY, key)
        add_generation(folder, effects, (), entry)
        close_bag(folder, effects, run, now, {})
    except Exception:
        if folder.is_dir():
            effects.remove_tree(folder)
        if existed:
            effects.make_folder(folder)
        raise
    return Parcel(folder, effects)


def _put_recipes(
    folder: SafePath, recipes: Sequence[Loaded], signatures: Sequence[bytes], effects: Effects
) -> dict[str, str]:
    """Put recipes and their signatures into the payload; return the names of these and SHA-256."""
    payload, mode = folder / PAYLOAD, mode_in(folder)
    for loaded in recipes:
        effects.put(payload / "recipes" / f"{loaded.id}{SUFFIX}", loaded.text.encode(), mode)
    if signatures:
        effects.make_folder(payload / SIGNATURES, folder_mode_in(folder))
    named = {f"{SIGNATURES}/{n:06d}.json": data for n, data in enumerate(signatures, start=1)}
    for name, data in named.items():
        effects.put(payload / name, data, mode)
    return {name: digest(data) for name, data in named.items()}
