"""What ``widetrail plan`` does: sets out, which writes a parcel with its plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, fields, replace
from pathlib import Path
from typing import Literal

from widetrail.cli.asking import ask_choices
from widetrail.cli.asking_programs import may_ask
from widetrail.cli.grown import consent_to_grown, show_grown
from widetrail.cli.output import Page, now, print_json
from widetrail.cli.plan_page import show_foreseen, show_plan
from widetrail.cli.plan_table import show_table
from widetrail.errors import Halted, InputUnusable
from widetrail.finding import CardFacts, read_card
from widetrail.lazily import dataclass
from widetrail.library.accepted_recipes import grown, remember_used
from widetrail.library.machines import open_machine
from widetrail.library.plans import plan_sealed
from widetrail.library.recipes import insist_allowed, load_recipes
from widetrail.machine import Effects
from widetrail.machine.host import HostMachine
from widetrail.parcel import Seal, make_seal
from widetrail.planning import (
    ChoiceWords,
    New,
    foresee,
    offered,
    read_choices,
)
from widetrail.recipe import Loaded
from widetrail.steps import Asked
from widetrail.steps.foreseeing import Foreseen
from widetrail.trust import Signed


@dataclass(frozen=True, kw_only=True)
class Given:
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
    to: tuple[str, ...]
    real: tuple[str, ...]
    ask: bool
    ask_programs: bool
    yes: bool
    account: str
    policy: Path | None
    signatures: tuple[Path, ...]
    allow: tuple[str, ...]
    keyring: Path | None
    older: bool
    release_after: Literal["verifying", "packing"]
    seal: bool
    hint: str
    if_found: str
    answers: Path | None
    details: bool
    as_json: bool


def plan_and_show(given: Given) -> None:
    """Make the plan and its parcel, and show it."""
    effects = Effects()
    loaded = load_recipes(given.recipes)
    signatures = _signatures(given.signatures)
    signed = _judged(given, loaded, signatures)
    words = ChoiceWords(**{f.name: getattr(given, f.name) for f in fields(ChoiceWords)})
    choices = read_choices(loaded, words)
    here = open_machine(given.old, given.account if given.old is None else "", effects)
    there = _new(given.new, given.new_later, effects, given.account)
    if given.ask_programs:
        for machine in (here, there) if isinstance(there, HostMachine) else (here,):
            may_ask(machine, loaded, given.yes)
        choices = replace(choices, ask_programs=True)
    if given.ask:
        choices = ask_choices(offered(loaded, here, ask_programs=given.ask_programs), choices)
    if not given.seal and (given.hint or given.if_found):
        raise InputUnusable("--hint and --if-found are for a sealed parcel", todo="Add --seal.")

    def sealed() -> tuple[Seal, bytes]:
        return _sealed(given.hint, given.if_found, given.answers)

    card = given.new if isinstance(there, CardFacts) else None
    seal = sealed if given.seal else None
    plan = plan_sealed(loaded, here, there, given.parcel, choices, seal, card, signatures)
    remember_used(loaded)
    _accept(signed)
    foreseen: dict[str, Foreseen] = {}
    if there is not None and not isinstance(there, CardFacts):
        foreseen = foresee(plan, loaded, here, there, now())
    if given.as_json:
        told = {"id": plan.id, "parcel": str(given.parcel), "plan": plan.model_dump(mode="json")}
        records = {step: asdict(one) for step, one in foreseen.items()}
        print_json({**told, "records": records})
        return
    page = Page()
    (show_plan if given.details else show_table)(page, plan)
    show_foreseen(page, foreseen)
    _show_signed(page, signed)
    if given.seal:
        page.title("The parcel is sealed")
        page.line("Whoever has the passphrase can open it; nobody can without it.", indent=2)
        page.line("Plan, recipes and logbook can be read without it.", indent=2)
    page.title("Next")
    first = given.new if plan.legs and plan.legs[0].station == "new" else given.old
    where = f" --machine {first}" if first is not None and first.is_dir() else ""
    page.line(f"widetrail walk {given.parcel}{where}", indent=2)


def _accept(signed: Signed | None) -> None:
    if signed is not None:
        from widetrail.library.signing import accept

        accept(signed)


def _show_signed(page: Page, signed: Signed | None) -> None:
    if signed is not None:
        from widetrail.cli.signing import show_signers

        page.title("Who signed it")
        show_signers(page, signed.signers)


def _signatures(paths: Sequence[Path]) -> tuple[bytes, ...]:
    """Return what files of signatures hold, if any are named."""
    if not paths:
        return ()
    from widetrail.library.signed_moves import signatures_in  # most plans are made without

    return signatures_in(paths)


def _judged(given: Given, recipes: Sequence[Loaded], signatures: Sequence[bytes]) -> Signed | None:
    """Return who signed the recipes, where a keyring is to say so; ask, where they may do more.

    Raises:
        InputUnusable: A policy or the keyring does not allow them.
        Halted: They may do more than they did here, and nobody consents to that.
    """
    if given.policy is not None:
        insist_allowed(given.policy, recipes)
    signed = None
    if given.keyring is not None:
        from widetrail.library.signed_moves import verify_to_plan

        signed = verify_to_plan(recipes, signatures, given.keyring, older=given.older)
    more = grown(recipes)
    show_grown(Page(to_errors=True), more)
    consent_to_grown(more, given.allow)
    return signed


def _sealed(hint: str, finder: str, answers: Path | None) -> tuple[Seal, bytes]:
    return make_seal(ask_passphrase(answers), hint, finder)


def ask_passphrase(answers: Path | None) -> str:
    """Return the passphrase of a parcel that a person gives.

    Raises:
        Halted: Nobody does.
    """
    from widetrail.cli.terminal_person import make_company  # who plans seldom needs to walk

    hands = make_company(Page(to_errors=True), answers, waits=True).hands
    asked = Asked("parcel", "seal", "A passphrase for the parcel", secret=True, made=True)
    passphrase = hands.answer(asked)
    if not passphrase:
        raise Halted(
            "a passphrase is needed to seal the parcel",
            why="no value was given for parcel.seal",
            todo="Plan at a terminal, or give the answer parcel.seal with --answers.",
        )
    return passphrase


def _new(path: Path | None, later: bool, effects: Effects, account: str) -> New:
    if later and path is not None:
        raise InputUnusable("--new and --new-later exclude each other")
    if later:
        return None
    if path is not None and path.is_file():
        return read_card(path)
    return open_machine(path, account if path is None else "", effects)
