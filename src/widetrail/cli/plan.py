"""``widetrail plan``: sets out, which writes a parcel with its plan."""

from __future__ import annotations

import secrets
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Literal

import click

from widetrail.cli.output import (
    Page,
    as_value,
    json_option,
    load_recipes,
    may_ask,
    now,
    open_machine,
    print_json,
)
from widetrail.cli.terminal_person import make_company
from widetrail.errors import Halted, InputUnusable
from widetrail.finding import CardFacts, make_card, read_card
from widetrail.formats.documents import read_document
from widetrail.formats.quantities import show_count, show_files, show_size
from widetrail.formats.texts import for_people
from widetrail.machine import EffectFailed, Effects, medium_of
from widetrail.machine.host import HostMachine
from widetrail.machine.paths import base
from widetrail.parcel import Along, Seal, make_seal, set_out
from widetrail.parcel.seal import remember_sealed
from widetrail.planning import (
    Choices,
    LeftItem,
    New,
    Offer,
    Plan,
    PlannedItem,
    foresee,
    make_plan,
    offered,
    read_choices,
)
from widetrail.recipe import Loaded, Loss
from widetrail.recipe.templates import plain
from widetrail.records import Sort
from widetrail.steps import Asked, WrittenAt, act_of, words_of
from widetrail.steps.enter import EXISTING_VALUES
from widetrail.steps.foreseeing import Foreseen
from widetrail.steps.publish_step import EXISTING

SHOWN_NAMES = 5
"""Names of an item that are called otherwise on new, of which a plan shows so many."""

PATH = click.Path(path_type=Path)


@dataclass(frozen=True, kw_only=True)
class _Given:
    """What a call gives."""

    recipes: tuple[Path, ...]
    old: Path | None
    new: Path | None
    new_later: bool
    parcel: Path
    only: tuple[str, ...]
    without: tuple[str, ...]
    choose: tuple[str, ...]
    outside: tuple[str, ...]
    routes: tuple[str, ...]
    duplicates: tuple[str, ...]
    ask: bool
    ask_programs: bool
    yes: bool
    account: str
    release_after: Literal["verifying", "packing"]
    seal: bool
    hint: str
    if_found: str
    answers: Path | None
    as_json: bool


@click.command("plan")
@click.argument("recipes", nargs=-1, required=True, type=PATH)
@click.option("--old", type=PATH, help="The machine left behind; else this machine.")
@click.option("--new", type=PATH, help="The machine moved to, or its card; else this machine.")
@click.option("--new-later", is_flag=True, help="New is out of reach, and there is no card of it.")
@click.option("--parcel", required=True, type=PATH, help="The folder to make on the medium.")
@click.option("--only", multiple=True, metavar="ITEM", help="Move these items only.")
@click.option("--without", multiple=True, metavar="ITEM", help="Leave these items out.")
@click.option(
    "--choose", multiple=True, metavar="ITEM.PART=VALUE,…", help="Move these values of a part only."
)
@click.option(
    "--outside",
    multiple=True,
    metavar="ITEM=carry|leave",
    help="Whether files that an item names elsewhere go along.",
)
@click.option(
    "--route", "routes", multiple=True, metavar="ITEM=ROUTE", help="The route an item is to go."
)
@click.option(
    "--duplicates",
    multiple=True,
    metavar="ITEM=WORD",
    help="What becomes of records that are there with another content: replace, keep both, skip "
    "or merge fields.",
)
@click.option(
    "--release-after",
    type=click.Choice(["verifying", "packing"]),
    default="verifying",
    help="Release licences on old when what was packed is verified on new, or, to save trips, when "
    "it is packed: then the licence is gone from old before anything arrived.",
)
@click.option("--ask", is_flag=True, help="Ask at the terminal what is to be moved.")
@click.option(
    "--ask-programs",
    is_flag=True,
    help="Read what programs print, here and in walks, where a recipe says so.",
)
@click.option("--yes", is_flag=True, help="Consent to starting the programs that are listed.")
@click.option("--account", default="", help="Whose account on this machine.")
@click.option("--seal", is_flag=True, help="Seal the parcel with a passphrase.")
@click.option("--hint", default="", help="A hint at the passphrase, which anyone can read.")
@click.option("--if-found", default="", help="What whoever finds the medium is to know.")
@click.option("--answers", type=PATH, help="A file that answers parcel.seal with the passphrase.")
@json_option
@as_value(_Given)
def command(given: _Given) -> None:
    """Plan the move of the applications of RECIPES and write the parcel it travels in.

    Nothing on either machine is changed, and no program is started unless --ask-programs says so.
    """
    effects = Effects()
    loaded = load_recipes(given.recipes)
    choices = read_choices(
        loaded,
        given.only,
        given.without,
        given.choose,
        given.outside,
        given.release_after,
        given.routes,
        given.duplicates,
    )
    here = open_machine(given.old, given.account if given.old is None else "", effects)
    there = _new(given.new, given.new_later, effects, given.account)
    if given.ask_programs:
        for machine in (here, there) if isinstance(there, HostMachine) else (here,):
            may_ask(machine, loaded, given.yes)
        choices = replace(choices, ask_programs=True)
    if given.ask:
        choices = _ask(offered(loaded, here, ask_programs=given.ask_programs), choices)
    plan = make_plan(
        loaded, here, there, medium_of(given.parcel), now(), choices, sealed=given.seal
    )
    sealed = _sealed(given.hint, given.if_found, given.answers) if given.seal else None
    if sealed is None and (given.hint or given.if_found):
        raise InputUnusable("--hint and --if-found are for a sealed parcel", todo="Add --seal.")
    run, card = secrets.token_hex(6), _card(there, given.new, loaded)
    set_out(given.parcel, plan, loaded, run, now(), effects, Along(card, choices, sealed))
    if sealed is not None:
        with suppress(EffectFailed):  # where nothing may be written, the plan alone says it
            remember_sealed(run, effects)
    foreseen: dict[str, Foreseen] = {}
    if there is not None and not isinstance(there, CardFacts):
        foreseen = foresee(plan, loaded, here, there, now())
    if given.as_json:
        told = {"id": plan.id, "parcel": str(given.parcel), "plan": plan.model_dump(mode="json")}
        records = {step: asdict(one) for step, one in foreseen.items()}
        print_json({**told, "records": records})
        return
    page = Page()
    show_plan(page, plan)
    _show_foreseen(page, foreseen)
    if sealed is not None:
        page.title("The parcel is sealed")
        page.line("Whoever has the passphrase can open it; nobody can without it.", indent=2)
        page.line("Plan, recipes and logbook can be read without it.", indent=2)
    page.title("Next")
    where = f" --machine {given.old}" if given.old is not None else ""
    page.line(f"widetrail walk {given.parcel}{where}", indent=2)


_SORTS: Mapping[Sort, str] = {
    "new": "new",
    "same": "there already",
    "different": "there with another content",
    "unwanted": "not to come",
}
EXAMPLES = 3
"""Records of a sort that a plan shows by name."""


def _show_foreseen(page: Page, foreseen: Mapping[str, Foreseen]) -> None:
    """Show what a merge of records would come to by what both machines hold now."""
    if foreseen:
        page.title("Records, as both machines hold them now")
    for one in foreseen.values():
        page.line(f"{one.to}: {one.trouble or f'holds {one.held}'}", indent=2)
        for sort, words in _SORTS.items():
            if number := one.count.get(sort, 0):
                names = one.names.get(sort, ())[:EXAMPLES]
                more = ", …" if number > len(names) else ""
                page.line(f"{number} {words}: {', '.join(names)}{more}", indent=4)


def _sealed(hint: str, finder: str, answers: Path | None) -> tuple[Seal, bytes]:
    """Return a seal with the passphrase that a person gives.

    Raises:
        Halted: Nobody does.
    """
    hands = make_company(Page(to_errors=True), answers, waits=True).hands
    asked = Asked("parcel", "seal", "A passphrase for the parcel", secret=True, made=True)
    passphrase = hands.answer(asked)
    if not passphrase:
        raise Halted(
            "a passphrase is needed to seal the parcel",
            why="nobody tells one",
            todo="Plan at a terminal, or give parcel.seal with --answers.",
        )
    return make_seal(passphrase, hint, finder)


def _new(path: Path | None, later: bool, effects: Effects, account: str) -> New:
    if later and path is not None:
        raise InputUnusable("--new and --new-later exclude each other")
    if later:
        return None
    if path is not None and path.is_file():
        return read_card(path)
    return open_machine(path, account if path is None else "", effects)


def _card(new: New, path: Path | None, loaded: list[Loaded]) -> bytes | None:
    """Return the card of new that travels along, so that old can be planned anew."""
    if new is None:
        return None
    if isinstance(new, CardFacts):
        assert path is not None
        return read_document(path)
    return make_card(new, loaded)


def _ask(offers: tuple[Offer, ...], choices: Choices) -> Choices:
    """Ask about each item and part that the call has not chosen yet.

    Raises:
        Halted: Nobody can be asked.
    """
    if not sys.stdin.isatty():
        todo = "Choose with --only, --without and --choose."
        raise Halted("nobody can be asked here", why="this is no terminal", todo=todo)
    without, parts, routes = set(choices.without), dict(choices.parts), dict(choices.routes)
    for offer in offers:
        if not choices.wants(offer.id):
            continue
        if not click.confirm(f"Move {for_people(offer.title)}?", default=True, err=True):
            without.add(offer.id)
            continue
        for part, values in offer.parts.items():
            name = f"{offer.id}.{part}"
            shown = for_people(", ".join(values))
            text = f"  Which {part}? ({shown}; nothing for all)"
            answer = (
                ""
                if name in parts
                else click.prompt(text, default="", show_default=False, err=True)
            )
            if answer.strip():
                parts[name] = tuple(v.strip() for v in answer.split(","))
        if offer.routes and offer.id not in routes:
            text = f"  Which way? ({', '.join(offer.routes)}; nothing for the best that applies)"
            ways = click.Choice(["", *offer.routes])
            if way := click.prompt(text, "", type=ways, show_choices=False, err=True):
                routes[offer.id] = way
    return replace(choices, without=frozenset(without), parts=parts, routes=routes)


def show_plan(page: Page, plan: Plan) -> None:
    """Show a plan on ``page``: what goes which way and why, each step, what stays behind."""
    old, new = plan.station("old"), plan.station("new")
    known = {"seen": "", "card": " (by its card)", "assumed": " (not seen yet)"}[new.source]
    page.title(f"Plan {plan.id[:12]}: from {old.machine} to {new.machine}{known}")
    copied = {step.item for step in plan.steps if act_of(step).places}
    for item in plan.items:
        stores = [s.merges_into for s in plan.steps if s.item == item.id and s.merges_into]
        _show_item(page, item, stores, copied=item.id in copied)
    for left in plan.left:
        _show_left(page, left)
    show_legs(page, plan)
    tasks = [task for item in plan.items for task in item.tasks]
    if plan.notices or tasks:
        page.title("Worth knowing")
    for notice in (*plan.notices, *tasks):
        page.line(f"- {notice}", indent=2)


def _show_item(page: Page, item: PlannedItem, stores: Sequence[str], *, copied: bool) -> None:
    page.line(item.title, "bold", indent=2)
    why = f"; {', '.join(item.met)}" if item.met else ""
    amount = "values" if item.store else show_files(item.files)
    much = "" if item.kind == "licence" else f" ({amount}, {show_size(item.size)})"
    page.line(f"by: {item.route}{much}{why}", indent=4)
    for passed in item.passed_over:
        page.line(f"not by: {passed.route}, since {passed.reason}", "dim", indent=4)
    for assumed in item.assumed:
        page.line(f"assumed: {assumed}; if not, the plan is made anew there", "yellow", indent=4)
    for part, values in item.parts.items():
        left = item.parts_left.get(part)
        rest = f"; not {', '.join(left)}" if left else ""
        page.line(f"{part}: {', '.join(values)}{rest}", indent=4)
    if item.kind != "licence":
        _show_places(page, item, stores, copied=copied)
    _show_losses(page, item.losses)


def _show_places(page: Page, item: PlannedItem, stores: Sequence[str], *, copied: bool) -> None:
    """Show where an item is on both sides, and what becomes of its names and paths."""
    page.line(f"from: {item.old_path} ({item.old_how})", indent=4)
    existing = EXISTING_VALUES if item.store else EXISTING
    aside = f"; {existing[item.existing]}" if item.occupied else ""
    others = [plain(one) for one in stores if item.new_path and not one.startswith(item.new_path)]
    place = f"{item.new_path or 'its place on new'} ({item.new_how}){aside}"
    page.line(f"to: {', '.join(others) or place}", indent=4)
    for rule in item.written[:SHOWN_NAMES] if copied else ():
        page.line(f"paths made right in: {_where_written(rule, item)}", "dim", indent=4)
    if copied and len(item.written) > SHOWN_NAMES:
        more = show_count(len(item.written) - SHOWN_NAMES, "more place")
        page.line(f"and in {more} (see --json)", "dim", indent=4)
    for path in sorted(item.from_outside.values())[:SHOWN_NAMES]:
        page.line(f"goes along from elsewhere: {path}", indent=4)
    if len(item.from_outside) > SHOWN_NAMES:
        page.line(f"and {len(item.from_outside) - SHOWN_NAMES} more files", indent=4)
    if item.carved:
        page.line(f"without: {', '.join(item.carved)} (another item's)", indent=4)
    for state in item.awaited:
        page.line(f"waits until: {state}", indent=4)
    renamed = sorted(item.renamed.items())
    for path, becomes in renamed[:SHOWN_NAMES]:
        page.line(f"called otherwise on new: {path} becomes {becomes}", "yellow", indent=4)
    if len(renamed) > SHOWN_NAMES:
        page.line(f"and {len(renamed) - SHOWN_NAMES} more names (see --json)", "yellow", indent=4)


def _where_written(rule: WrittenAt, item: PlannedItem) -> str:
    tells = f" (it tells where {rule.tells} is)" if rule.tells else ""
    file = "" if item.store else f"{rule.file or base(item.old_path)} "
    return f"{file}{rule.at}{tells}"


def _show_left(page: Page, item: LeftItem) -> None:
    if item.nothing:
        page.line(f"{item.title}: nothing to carry", "bold", indent=2)
        page.line(item.nothing, indent=4)
        return
    if item.there:
        page.line(f"{item.title}: is there already", "bold", indent=2)
        page.line(
            f"both machines see {item.there}, so nothing is copied and nothing retired", indent=4
        )
        return
    page.line(f"{item.title}: stays behind", "bold yellow", indent=2)
    for passed in item.passed_over:
        page.line(f"not by: {passed.route}, since {passed.reason}", "dim", indent=4)
    _show_losses(page, item.losses)
    if item.todo:
        page.line(item.todo, indent=4)


def _show_losses(page: Page, losses: tuple[Loss, ...]) -> None:
    for loss in losses:
        before = f" Before: {loss.before}" if loss.before else ""
        page.line(f"not carried: {loss.what}. {loss.remedy}{before}", "yellow", indent=4)


def show_legs(page: Page, plan: Plan, *, walked: int = 0) -> None:
    """Show the legs of a plan, step by step, from the first one that was not ``walked``."""
    trips = "one trip" if plan.trips == 1 else f"{plan.trips} trips"
    fewest = "as few as can be" if plan.exact else f"at least {plan.bound - 1} are needed"
    page.title(
        f"The trail: {trips} ({fewest}), {show_size(plan.parcel_size)} on the medium at most"
    )
    for leg in plan.legs[walked:]:
        machine = next((s.machine for s in plan.stations if s.station == leg.station), "")
        where = f"{machine} ({leg.station})" if machine else "any networked machine (between)"
        page.line(f"{leg.number}. on {where}", indent=2)
        for step in plan.steps_of(leg):
            page.line(f"- {words_of(step)}", indent=5)
