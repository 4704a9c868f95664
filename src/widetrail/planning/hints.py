"""What would save a trip, as a plan tells it; nothing is chosen by it."""

from __future__ import annotations

from datetime import datetime

from widetrail.planning.draft import Draft
from widetrail.planning.itinerary import Itinerary, find_itinerary
from widetrail.planning.route_choice import Chosen
from widetrail.planning.unfolding import known_of, unfold_steps
from widetrail.planning.user_choices import Choices
from widetrail.steps import act_of
from widetrail.steps.seat_step import looks_whether_ready


def hint_at_release(draft: Draft, itinerary: Itinerary, choices: Choices, *, unseen: bool) -> None:
    """Say how many trips it would save to release licences once all is packed."""
    if not draft.licences:
        return
    if choices.release_after == "packing":
        if unseen:
            draft.notices.append(
                "the licence is released before it is known which computer new is: walk this "
                "parcel on one alone, since a copy of it would claim the licence elsewhere too"
            )
        return
    seen = {s.id for s in draft.steps if looks_whether_ready(s)}
    before = (s for s in draft.steps if act_of(s).packs or act_of(s).notes)
    packed = tuple(s.id for s in before if s.station == "old")
    steps = [
        s.model_copy(update={"station": "old", "after": packed}) if s.id in seen else s
        for s in draft.steps
    ]
    saved = len(itinerary.legs) - len(find_itinerary(steps, most=2_000).legs)
    if saved > 0:
        trips = "a trip" if saved == 1 else f"{saved} trips"
        draft.notices.append(
            f"releasing after packing (--release-after packing) would save {trips}, but the old "
            "computer would lose its licence before anything is verified on the new one"
        )


def hint_at_routes(draft: Draft, itinerary: Itinerary, today: datetime) -> None:
    """Say which other route of one item would save a trip; routes are never chosen by trips."""
    for planned, subject, chosen in draft.items:
        others = [r for r in subject.item.routes if r.name != chosen.route.name]
        passed = {p.route for p in planned.rejected}
        for route in others:
            if route.name in passed:
                continue
            other = Chosen(route, (), (), (), chosen.parts, ())
            mine = f"{planned.id}/"
            steps = [s for s in draft.steps if not s.id.startswith(mine)]
            kept = {s.id for s in steps}
            steps = [
                s.model_copy(update={"after": tuple(a for a in s.after if a in kept)})
                for s in steps
            ]
            steps += unfold_steps(
                planned, subject.side.loaded, other, known_of(planned, subject.finder, other, today)
            )
            legs = len(find_itinerary(steps, most=2_000).legs)
            if legs < len(itinerary.legs):
                saved = len(itinerary.legs) - legs
                trips = "a trip" if saved == 1 else f"{saved} trips"
                draft.notices.append(f'{planned.id} by "{route.name}" would save {trips}')
