"""A move: planned, with the parcel that it travels in."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

from widetrail.finding import CardFacts, make_card
from widetrail.formats.documents import read_document
from widetrail.library.recipes import Where
from widetrail.machine import EffectFailed, Effects, Machine, medium_of
from widetrail.parcel import Along, Seal, make_seal, set_out
from widetrail.parcel.seal import remember_sealed
from widetrail.planning import Choices, New, Plan, make_plan
from widetrail.recipe import Loaded


def plan(
    recipes: Sequence[Loaded],
    old: Machine,
    new: New,
    parcel: Where,
    choices: Choices | None = None,
    *,
    passphrase: str = "",
) -> Plan:
    """Plan a move and write the parcel that it travels in; neither machine is changed.

    ``new`` is a machine, the facts of its card (``read_card``), or ``None`` where it is out of
    reach. ``parcel`` is a folder that is empty or not there yet. With a ``passphrase`` the parcel
    is sealed, which licences need.

    Raises:
        Obstructed: The plan cannot be made; each obstacle says why and what to do.
        InputUnusable: Something is in the parcel's folder already.

    Example:
        >>> recipes = load_recipes(["recipes/sporelog.trail.yaml"])
        >>> old, new = (open_machine(f"machines/{n}") for n in ("potting-shed", "glass-office"))
        >>> planned = plan(recipes, old, new, "media/usb-stick/first")
        >>> [item.route for item in planned.items]
        ['whole folder', 'copy of the files']
    """
    seal = (lambda: make_seal(passphrase)) if passphrase else None
    return plan_sealed(recipes, old, new, Path(parcel), choices, seal)


def plan_sealed(
    recipes: Sequence[Loaded],
    old: Machine,
    new: New,
    parcel: Path,
    choices: Choices | None = None,
    sealing: Callable[[], tuple[Seal, bytes]] | None = None,
    card: Path | None = None,
    signatures: Sequence[bytes] = (),
) -> Plan:
    """Do as ``plan`` does, with ``sealing`` to be called for the seal once there is a plan, the
    file of new's card, and the signatures of the recipes that go along."""
    chosen, moment = choices or Choices(), datetime.now(UTC)
    made = make_plan(
        recipes, old, new, medium_of(parcel), moment, chosen, sealed=sealing is not None
    )
    seal = sealing() if sealing is not None else None
    run, effects = secrets.token_hex(6), Effects()
    along = Along(_card(new, card, recipes), chosen, seal, signatures)
    set_out(parcel, made, recipes, run, moment, effects, along)
    if seal is not None:
        with suppress(EffectFailed):  # where nothing may be written, the plan alone says it
            remember_sealed(run, effects)
    return made


def _card(new: New, path: Path | None, recipes: Sequence[Loaded]) -> bytes | None:
    """Return the card of new that travels along, so that old can be planned anew."""
    if new is None:
        return None
    if isinstance(new, CardFacts):
        return read_document(path) if path is not None else None
    return make_card(new, list(recipes))
