"""Parcels that are signed, and what is refused of those that were made to mislead."""

import json
import shutil
from base64 import b64encode
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ran, World, contents, of_the_person, widetrail
from widetrail.library.signing import accept, accepted_revisions
from widetrail.trust import Signed, SignedRecipe

RECIPE = "unpacked/recipes/huemoss.trail.yaml"


def sign(world: World, what: Path, name: str = "ines") -> Ran:
    said = ("--passphrase-from", world.folder / f"{name}.txt")
    return widetrail(
        "key", "sign", what, "--key", world.folder / f"{name}.key", "--as", name, *said
    )


@pytest.fixture
def signed(archive: Path, world: World) -> World:
    """Return a world with a bundle that one person signed and that was unpacked."""
    world.edit("keyring.yaml", lambda t: t.replace("threshold: 2", "threshold: 1"))
    assert sign(world, archive).status == 0
    assert widetrail("bundle", "unpack", archive, world.folder / "unpacked").status == 0
    return world


def plan(world: World, *more: str | Path, recipe: str = RECIPE, bare: bool = False) -> Ran:
    here = ("--old", world.old, "--new", world.new, "--parcel", world.parcel)
    along = () if bare else ("--signatures", world.folder / "unpacked/signatures.json")
    return widetrail("plan", world.folder / recipe, *here, *along, *more)


def ring(world: World) -> tuple[str, str]:
    return ("--keyring", str(world.folder / "keyring.yaml"))


def ask_for_parcels(world: World, number: int) -> None:
    world.edit("keyring.yaml", lambda t: f"parcel_threshold: {number}\n{t}")


def refusal(world: World, machine: Path) -> str:
    """Return the code by which a walk with the keyring is refused, which changes nothing."""
    before, parcel = contents(machine), contents(world.parcel)
    ran = world.walk(machine, *ring(world))
    assert ran.status == 2, ran.out + ran.err
    assert contents(machine) == before
    assert contents(world.parcel) == parcel
    [code] = {c for c in ran.err.replace(")", "(").split("(") if "-" in c and " " not in c}
    return code


def test_signatures_go_along_from_the_bundle_to_new(signed: World) -> None:
    planned = plan(signed, *ring(signed))
    assert "1 recipe signed by ines: huemoss" in planned.out
    assert accepted_revisions() == {"huemoss": 2}
    first = signed.walk(signed.old)
    assert "It says that ines signed it. Nobody verified that" in first.err
    assert sign(signed, signed.parcel).status == 0
    assert sign(signed, signed.parcel, "tomas").status == 0
    ask_for_parcels(signed, 2)
    second = signed.walk(signed.new, *ring(signed))
    assert second.status == 0, second.err
    assert "1 recipe signed by ines: huemoss" in second.err
    assert "The parcel was handed over by ines and tomas" in second.err
    assert signed.walk(signed.new, *ring(signed)).status == 0  # what new wrote needs no signature
    again = widetrail("report", signed.parcel)
    assert again.status == 0, again.err


def test_it_is_told_plainly_that_nobody_signed(signed: World) -> None:
    plan(signed, bare=True)
    assert "Nobody signed these recipes: huemoss." in signed.walk(signed.old).err
    assert refusal(signed, signed.new) == "not-signed"


def test_a_plan_of_recipes_that_nobody_signed_is_not_made(signed: World) -> None:
    ran = plan(signed, *ring(signed), bare=True)
    assert (ran.status, "(not-signed)" in ran.err) == (2, True)
    signed.edit(RECIPE, lambda t: t.replace("revision: 2", "revision: 3"))
    ran = plan(signed, *ring(signed))
    assert (ran.status, "(other-contents)" in ran.err) == (2, True)
    assert not signed.parcel.exists()


def test_recipes_that_were_swapped_are_refused_without_a_keyring_too(signed: World) -> None:
    signed.edit(RECIPE, lambda t: t + "# another text\n")
    plan(signed)
    ran = signed.walk(signed.old)
    assert (ran.status, "(other-contents)" in ran.err) == (2, True)


def in_keyring(said: str) -> Callable[[World], None]:
    return lambda world: world.edit("keyring.yaml", lambda t: t.replace('="}', f'=", {said}}}', 1))


def forge(world: World) -> None:
    """Put a signature of somebody else into the place of the one that travels."""
    path = world.folder / "unpacked/signatures.json"
    told = json.loads(path.read_text())
    told["signatures"][0]["sig"] = b64encode(bytes(64)).decode()
    path.write_text(json.dumps(told))


def rename(world: World) -> None:
    world.edit("keyring.yaml", lambda t: t.replace("  ines:", "  nobody:"))


def ask_two(world: World) -> None:
    world.edit("keyring.yaml", lambda t: t.replace("threshold: 1", "threshold: 2"))


def knows_newer(world: World) -> None:
    newer = SignedRecipe(id="huemoss", revision=3, sha256="a" * 64)
    accept(Signed((newer,), {"huemoss": ("ines",)}))


@pytest.mark.parametrize(
    ("change", "code"),
    [
        (forge, "forged-signature"),
        (rename, "unknown-key"),
        (in_keyring("until: 2026-01-31"), "key-expired"),
        (in_keyring("revoked: 2026-01-31"), "key-revoked"),
        (in_keyring("may_sign: [quill*]"), "key-of-others"),
        (ask_two, "too-few-signatures"),
        (knows_newer, "older-revision"),
    ],
    ids=lambda one: one if isinstance(one, str) else "",
)
def test_a_parcel_whose_recipes_may_not_be_used_is_refused(
    signed: World, change: Callable[[World], None], code: str
) -> None:
    change(signed)
    plan(signed)
    assert signed.walk(signed.old).status == 0
    assert refusal(signed, signed.new) == code


def test_an_older_revision_is_taken_where_a_person_says_so(signed: World) -> None:
    knows_newer(signed)
    plan(signed)
    assert signed.walk(signed.old, *ring(signed), "--older").status == 0
    assert accepted_revisions() == {"huemoss": 2}


def test_what_came_into_a_parcel_after_it_was_signed_is_refused(signed: World) -> None:
    plan(signed)
    ask_for_parcels(signed, 1)
    assert refusal(signed, signed.old) == "not-signed"
    sign(signed, signed.parcel)
    assert signed.walk(signed.old, *ring(signed)).status == 0
    assert refusal(signed, signed.new) == "other-contents"  # old did not sign what it packed
    sign(signed, signed.parcel)
    ask = signed.folder / "keyring.yaml"
    ask.write_text(ask.read_text().replace("parcel_threshold: 1", "parcel_threshold: 2"))
    assert refusal(signed, signed.new) == "too-few-signatures"
    ask.write_text(ask.read_text().replace("parcel_threshold: 2", "parcel_threshold: 1"))
    [newest] = sorted((signed.parcel / "signed").iterdir())[-1:]
    kept = newest.read_bytes()
    newest.unlink()
    assert refusal(signed, signed.new) == "other-contents"  # stripped: the older one is of less
    newest.write_bytes(kept.replace(b'"ines"', b'"tomas"'))
    assert refusal(signed, signed.new) == "forged-signature"
    newest.write_bytes(kept)
    assert signed.walk(signed.new, *ring(signed)).status == 0


def test_signatures_of_another_parcel_are_refused(signed: World) -> None:
    plan(signed)
    sign(signed, signed.parcel)
    other = signed.parcel.with_name("other")
    shutil.move(signed.parcel, other)
    plan(signed)
    shutil.copytree(other / "signed", signed.parcel / "signed")
    ran = signed.walk(signed.old)
    assert (ran.status, "(other-contents)" in ran.err) == (2, True)


def test_what_a_parcel_of_signed_recipes_can_still_bring(signed: World) -> None:
    """Whoever holds the medium can put other contents into the places of signed recipes: that is
    noticed only where the parcel itself must be signed."""
    [stamp] = (
        sorted(p for p in signed.old.rglob("*") if p.suffix == ".stamp")[:1]
        or sorted(p for p in signed.old.rglob("*") if "stamp" in p.as_posix() and p.is_file())[:1]
    )
    stamp.write_bytes(b"not what the person had")
    plan(signed)
    assert signed.walk(signed.old).status == 0
    ask_for_parcels(signed, 1)
    assert refusal(signed, signed.new) == "not-signed"
    signed.edit("keyring.yaml", lambda t: t.replace("parcel_threshold: 1", "parcel_threshold: 0"))
    before = of_the_person(signed.new)
    ran = signed.walk(signed.new, *ring(signed))
    assert (
        "Nobody signed the parcel itself: what is packed in it is as the medium has it." in ran.err
    )
    assert of_the_person(signed.new) != before
    assert any(
        p.read_bytes() == b"not what the person had"
        for p in signed.new.rglob(stamp.name)
        if p.is_file()
    )
