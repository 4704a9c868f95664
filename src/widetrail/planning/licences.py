"""Licences in a plan: which way a seat goes, and the steps that move it or bring it back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from widetrail.finding import Finder, Known
from widetrail.lazily import dataclass
from widetrail.licence.exchange import Exchange
from widetrail.licence.terms import AT, Purpose, Stage
from widetrail.planning.itinerary import find_itinerary
from widetrail.planning.needs import judge_needs
from widetrail.planning.plan import Plan, PlannedItem, PlannedLeg, RejectedRoute
from widetrail.planning.route_choice import NoRoute, not_for, passed_for_needs, reach_needs
from widetrail.planning.station_facts import Side
from widetrail.recipe import Loaded, Loss, Station
from widetrail.recipe.licence_models import Licence, LicenceRoute
from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import literal
from widetrail.steps import RULES, OfSeat, Step, Unfolding
from widetrail.steps.commands import show_command
from widetrail.steps.seat_step import SeatAct, SeatStep


@dataclass(frozen=True)
class Way:
    """The route that a licence goes, with why those before it were passed over."""

    route: LicenceRoute
    rejected: tuple[RejectedRoute, ...]
    met: tuple[str, ...]
    assumed: tuple[str, ...]


def choose_way(
    licence: Licence, finder: Finder, old: Side, new: Side, today: datetime
) -> Way | NoRoute:
    """Return the first route of a licence whose case applies and whose needs hold."""
    passed: list[RejectedRoute] = []
    for route in licence.routes:
        if not finder.holds(route.for_):
            finder.decide(route.for_, "does not hold")
            passed.append(not_for(route.name, route.for_, old))
            continue
        if other := another_edition(route, new):
            passed.append(RejectedRoute(route=route.name, code="for", reason=f"new: {other}"))
            continue
        judged = judge_needs(route.needs, old, new, "", today)
        reach_needs(finder, route.needs, judged)
        if unmet := [j for j in judged if j.verdict == "unmet"]:
            passed.append(passed_for_needs(route.name, unmet))
            continue
        met = tuple(str(j) for j in judged if j.verdict == "met" and j.fact != "installed")
        assumed = tuple(str(j) for j in judged if j.verdict == "assumed")
        finder.decide(route.for_, "holds")
        finder.decide(route, "taken")
        return Way(route, tuple(passed), met, assumed)
    return NoRoute(tuple(passed))


def another_edition(route: LicenceRoute, new: Side) -> str:
    """Return why a route is not for the edition that new is known to have, or an empty text."""
    wanted = route.for_.edition if route.for_ is not None else None
    here = new.fact("edition")
    if wanted is None or not isinstance(here, Known) or str(here) == wanted:
        return ""
    return f"it is for the edition {wanted}, and {new.machine} has {here}"


def planned_licence(
    subject: str, recipe: str, name: str, title: str, way: Way, losses: tuple[Loss, ...]
) -> PlannedItem:
    """Return a licence as a plan holds it: it has no place."""
    return PlannedItem(
        id=subject,
        recipe=recipe,
        item=name,
        title=title,
        kind="licence",
        route=way.route.name,
        existing="refuse",
        whole=False,
        old_path="",
        old_how="",
        new_path="",
        new_how="",
        occupied=False,
        files=0,
        size=0,
        rejected=way.rejected,
        met=way.met,
        assumed=way.assumed,
        losses=losses,
    )


@dataclass(frozen=True)
class SoFar:
    """How far a plan was walked: the number of legs, the steps that came out well, and the stage of
    the seat."""

    legs: int
    done: frozenset[str]
    stage: Stage = "released"


def unfold_licence(
    planned: PlannedItem,
    loaded: Loaded,
    route: LicenceRoute,
    machines: tuple[str, str],
    needed: Sequence[str],
    packed: Sequence[str] | None,
) -> list[Step]:
    """Return the steps by which a seat goes from old to new, in order.

    ``machines`` are old and new. ``needed`` are the steps on new without which the program is of no
    use there. The seat is released after these, or after ``packed``, those on old, where the person
    takes the risk.
    """
    made = _Making(planned, loaded, machines)
    note = made.note()
    if packed is None or route.ready:  # what is to be tried on new cannot be tried from old
        tried = made.tries(route, (note.id, *needed))
        after = (note.id, *needed, *(step.id for step in tried))
        ready = [*tried, made.ready(after)]
    else:
        words = "read back what was packed; the seat is released on that, without seeing it arrive"
        ready = [made.own("ready", "old", words, after=(note.id, *packed))]
    releasing = made.act("release", route, (ready[-1].id,))
    claiming = made.act("claim", route, (releasing[-1].id, *needed), once=packed is not None)
    return [note, *ready, *releasing, *claiming]


_VERBS = {"release": "release", "claim": "claim", "return": "take back"}
_SHOWN = {
    "release": "that it is released",
    "claim": "that it is active",
    "return": "that it is active",
}


def _asked_by(loaded: Loaded, licence: Licence) -> Iterator[tuple[str, ...]]:
    """Give the commands by which a licence's program is asked: its own word on its licence, and
    what its steps wait for and keep."""
    names = set(licence.keep)
    for route in licence.routes:
        for _, _, _, step in route.numbered():
            names |= {name for rules in step.rule.conditions().values() for name in rules}
    readings = loaded.recipe.readings
    for reading in (licence.active, *(r for n in sorted(names) for r in readings.get(n, ()))):
        if reading.command is not None:
            yield reading.command


class _Making:
    """Makes the steps of one licence."""

    def __init__(
        self, planned: PlannedItem, loaded: Loaded, machines: tuple[str, str], mark: str = ""
    ) -> None:
        """``mark`` tells the steps from those of the same kind that were planned before."""
        self._mark = mark
        self._planned, self._loaded = planned, loaded
        self._machines = self.old, self.new = machines
        self.name = loaded.recipe.application.name
        licence = loaded.recipe.licences[planned.item]
        self._licence = licence
        asked = [show_command(command) for command in _asked_by(loaded, licence)]
        self._asks = f" ({', '.join(dict.fromkeys(asked))})" if asked else ""

    def own(
        self,
        act: SeatAct,
        station: Station,
        words: str,
        after: Sequence[str] = (),
        purpose: Purpose | None = None,
        name: str = "",
    ) -> Step:
        """Return a step of the engine's own."""
        return SeatStep(
            id=f"{self._planned.id}/seat/{name or act}{self._mark}",
            station=station,
            item=self._planned.id,
            act=act,
            words=words,
            seat=OfSeat(purpose=purpose) if purpose is not None else None,
            after=tuple(dict.fromkeys(after)),
        )

    def note(self) -> Step:
        """Return the step that keeps what the claim needs of old."""
        if self._licence.serial is not None:
            words = f"Store the serial of {self.name}{self._asks}, sealed, here and in the parcel"
        else:
            words = f"Ask {self.name}{self._asks} whether it is licensed here"
        if self._licence.keep:
            words += f"; copy {', '.join(self._licence.keep)} into the parcel"
        return self.own("note", "old", words)

    def ready(self, after: Sequence[str]) -> Step:
        """Return the step that looks on new whether it can take the seat."""
        words = f"Check that {self.name}{self._asks} can take the seat here, before "
        words += f"it is released on {self.old}"
        return self.own("ready", "new", words, after=after)

    def tries(self, route: LicenceRoute, after: Sequence[str]) -> list[Step]:
        """Return the recipe's own steps that are tried on new, each after the one before."""
        steps: list[Step] = []
        for part, number, station, said in route.numbered():
            if part == "ready":
                for one in self._of_recipe(number, station, said.kind, said.rule, part):
                    before = dict.fromkeys((*after, *one.after, *(s.id for s in steps[-1:])))
                    steps.append(one.model_copy(update={"after": tuple(before)}))
        return steps

    def act(
        self,
        purpose: Purpose,
        route: LicenceRoute,
        after: Sequence[str],
        *,
        freeing: bool = False,
        once: bool = False,
    ) -> list[Step]:
        """Return the steps of an act, each after the one before.

        ``freeing`` has a claim begin with what the route does on new to release the seat; ``once``
        says that no other computer may claim it too.
        """
        at, verb = AT[purpose], _VERBS[purpose]
        part = "free" if purpose == "release" else "claim"
        one, other = self._machines if at == "old" else self._machines[::-1]
        words = f"Ask {self.name}{self._asks} whether it is licensed here, to {verb} its seat"
        if once:
            words += "; do not walk a copy of this parcel on another computer, it would claim too"
        steps = [self.own("begin", at, words, after, purpose, purpose)]
        first = 1 if purpose == "release" else 2  # which try it is, the walk knows
        stem = Exchange(self._planned.recipe, purpose, one, other, first).stem
        for of, number, station, said in route.numbered():
            if of != part and not (freeing and of == "free" and station == "new"):
                continue
            here: Station = "old" if (purpose, station) == ("return", "new") else station
            for step in self._of_recipe(number, here, said.kind, said.rule, purpose):
                part_of = OfSeat(purpose=purpose, stem=literal(stem))
                later = step.later_than(steps[-1].id)
                steps.append(later.model_copy(update={"seat": part_of}))
        words = f"Check in {self.name}{self._asks} {_SHOWN[purpose]}, or ask its maker"
        steps.append(self.own("end", at, words, (steps[-1].id,), purpose, f"{purpose} seen"))
        return steps

    def _of_recipe(
        self, number: int, station: Station, kind: str, rule: Settings, purpose: str
    ) -> tuple[Step, ...]:
        name = f"{self._planned.route}/{purpose}{self._mark}"
        unfolding = Unfolding(
            self._loaded,
            self._planned.id,
            name,
            "refuse",
            station,
            number,
            "",
            "",
            {},
            lambda text, own=None: text,
        )
        return RULES[kind].unfold(rule, unfolding)


def plan_return(plan: Plan, loaded: Loaded, item: str, so_far: SoFar, *, gone: bool) -> Plan:
    """Return ``plan`` with the seat of ``item`` brought back to old instead of claimed on new.

    New renounces the seat first, unless it did, or, where it is ``gone``, a person answers for it;
    then nothing else is done on new any more either.
    """
    made, route = _making(plan, loaded, item, so_far)
    first = []
    if gone:
        first.append(_gone_new(made))
    elif so_far.stage != "renounced":
        first.append(_renouncing(made))
    back = made.act("return", route, [s.id for s in first])
    return _instead(plan, item, so_far, [*first, *back], "new" if gone else None)


def plan_claim(plan: Plan, loaded: Loaded, item: str, so_far: SoFar, *, gone: bool) -> Plan:
    """Return ``plan`` with the seat of ``item`` claimed on new after all.

    Where old is ``gone``, a person answers for it first, and nothing is done on old any more.
    """
    made, route = _making(plan, loaded, item, so_far)
    first = [_gone_old(made)] if gone else []
    if not gone and so_far.stage == "noted":
        tried = made.tries(route, ())
        first = [*tried, made.ready([s.id for s in tried])]
    if not gone and so_far.stage in ("noted", "verified"):
        first += made.act("release", route, [s.id for s in first[-1:]])
    claiming = made.act("claim", route, [s.id for s in first[-1:]], freeing=gone)
    return _instead(plan, item, so_far, [*first, *claiming], "old" if gone else None)


def _making(plan: Plan, loaded: Loaded, item: str, so_far: SoFar) -> tuple[_Making, LicenceRoute]:
    planned = plan.item(item)
    route = next(r for r in loaded.recipe.licences[planned.item].routes if r.name == planned.route)
    machines = plan.station("old").machine, plan.station("new").machine
    return _Making(planned, loaded, machines, _mark(so_far.legs)), route


def licence_steps(plan: Plan, planned: PlannedItem, loaded: Loaded) -> list[Step]:
    """Return every step that a plan can have for a licence, however it was planned anew."""
    route = next(r for r in loaded.recipe.licences[planned.item].routes if r.name == planned.route)
    machines = plan.station("old").machine, plan.station("new").machine
    steps = [
        *unfold_licence(planned, loaded, route, machines, (), None),
        *unfold_licence(planned, loaded, route, machines, (), ()),
    ]
    for legs in range(len(plan.legs) + 1):
        made = _Making(planned, loaded, machines, _mark(legs))
        steps += [_gone_new(made), _renouncing(made), _gone_old(made)]
        steps += [*made.tries(route, ()), made.ready(())]
        for purpose in ("return", "claim", "release"):
            steps += made.act(purpose, route, ())
        steps += made.act("claim", route, (), freeing=True)
    return steps


def _mark(legs: int) -> str:
    return f" after leg {legs}"


def _gone_new(made: _Making) -> Step:
    words = f"Ask you to confirm that {made.new} will never claim the seat of {made.name}"
    return made.own("gone", "old", words, name="new gone")


def _gone_old(made: _Making) -> Step:
    words = f"Ask you to confirm that {made.old} will never take the seat of {made.name} back"
    return made.own("gone", "new", words, name="old gone")


def _renouncing(made: _Making) -> Step:
    words = f"Record that the seat of {made.name} is not claimed here in this move"
    return made.own("renounce", "new", words)


def plan_without(plan: Plan, item: str, so_far: SoFar) -> Plan:
    """Return ``plan`` without what is still to be done with the seat of ``item``."""
    return _instead(plan, item, so_far, [], None)


def _instead(
    plan: Plan, item: str, so_far: SoFar, added: Sequence[Step], gone: Station | None
) -> Plan:
    """Return a plan with ``added`` in the place of all that is still to be done with a seat.

    Legs that were walked stay, without what is not to be done any more. Nothing is left to be done
    on a station that is ``gone``, nor what waits for that.
    """
    new = {step.id for step in added}
    todo = [s for s in plan.steps if s.id not in so_far.done]
    dropped = {s.id for s in todo if s.item == item or s.station == gone}
    for step in todo:
        if gone is not None and dropped & set(step.after):
            dropped.add(step.id)
    dropped -= new
    walked = tuple(
        leg.model_copy(update={"steps": tuple(s for s in leg.steps if s not in dropped)})
        for leg in plan.legs[: so_far.legs]
    )
    kept = [s for s in plan.steps if s.id not in dropped | new]
    steps = [
        s.model_copy(update={"after": tuple(a for a in s.after if a not in dropped)})
        for s in (*kept, *added)
    ]
    before = {s for leg in walked for s in leg.steps} | so_far.done
    rest = [
        s.model_copy(update={"after": tuple(a for a in s.after if a not in before)})
        for s in steps
        if s.id not in before
    ]
    itinerary = find_itinerary(rest)
    legs = [
        PlannedLeg(number=n, station=station, steps=mine)
        for n, (station, mine) in enumerate(itinerary.legs, start=len(walked) + 1)
    ]
    update = {"steps": tuple(steps), "legs": (*walked, *legs)}
    return plan.model_copy(update={**update, "bound": len(walked) + itinerary.bound})
