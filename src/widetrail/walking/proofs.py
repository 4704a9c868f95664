"""What is left to a person after the move, and the readings of new that tick it off."""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.recipe import Loss
from widetrail.steps.reading_conditions import conditions, missing
from widetrail.walking.step_context import WalkDoing

Proofs = dict[str, dict[str, str]]
"""By item and what its loss is called, what must come to be still; empty where it was made good."""


def look_at_proofs(doing: WalkDoing) -> Proofs:
    """Look on new at the proof of each remedy, of every item that arrived."""
    if doing.station != "new":
        return {}
    found: Proofs = {}
    for item in doing.plan.items:
        if doing.came_here(item.id):
            for loss in _with_proof(doing, item.id):
                lacking = missing(doing, item.id, loss.proof)
                branch = "not made good" if lacking else "made good"
                doing.finder(item.id).decide(loss, branch)
                told = " and ".join(conditions(loss.proof)) if lacking else ""
                found.setdefault(item.id, {})[loss.what] = told
    return found


def newly_proved(doing: WalkDoing, now: Proofs) -> tuple[str, ...]:
    """Return in words what is seen to be made good in ``now`` and was not before."""
    before: Mapping[str, Mapping[str, str]] = doing.parcel.proofs
    return tuple(
        f"{item.title}: {what}"
        for item in doing.plan.items
        for what, lacking in now.get(item.id, {}).items()
        if not lacking and before.get(item.id, {}).get(what) != ""
    )


def _with_proof(doing: WalkDoing, item: str) -> list[Loss]:
    """Return the losses of an item that the plan tells and whose remedy has a proof."""
    planned = {loss.what for loss in doing.planned(item).losses}
    known = (*doing.item(item).losses, *doing.route(item).losses)
    return [loss for loss in known if loss.proof and loss.what in planned]
