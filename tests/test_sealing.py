"""Sealed parcels: nobody reads them without the passphrase, and anybody with it, by other tools."""

from __future__ import annotations

import errno
import os
import pty
import shutil
import subprocess
from io import BytesIO
from pathlib import Path

import bagit
import pytest

from build import item, outcomes, trail
from conftest import World, widetrail
from widetrail.errors import InputUnusable, ParcelUnusable, Waiting
from widetrail.parcel.seal import WrongPassphrase, make_seal, open_seal, read_header

PHRASE = "reed bunting"
GIVE = "run: [fernbook, give, '{parcel}/list'], makes: '{parcel}/list'"
TAKE = "run: [fernbook, take, '{parcel}/list'], changes: extra"
ASKED = "run: [fernbook, lines], stdin: '{word}', changes: extra"
WAYS = f"""        legs:
          - old: [{{{GIVE}}}, {{{ASKED}}}]
          - new: [copy, {{{ASKED}}}, {{{TAKE}}}]"""


def test_nothing_of_the_person_can_be_read_in_a_sealed_parcel(tmp_path: Path) -> None:
    one = trail(tmp_path, item(WAYS), sealed=PHRASE, hands={"word": "wryneck 77"})
    (one.notes("old") / "one.txt").write_text("the orchid is in the third frame\n")
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    held = b"".join(p.read_bytes() for p in one.at.rglob("*") if p.is_file())
    for secret in (b"orchid", b"two.txt", b"wryneck", PHRASE.encode()):
        assert secret not in held
    assert b"a bird at the pond" in held
    assert b"please call the glass office" in held


def test_a_secret_is_asked_for_once_where_the_parcel_is_sealed(tmp_path: Path) -> None:
    one = trail(tmp_path, item(WAYS), sealed=PHRASE, hands={"word": "wryneck 77"})
    one.walk("old")
    del one.hands["word"]  # type: ignore[attr-defined]
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert (one.notes("new") / "stdin").read_text() == "wryneck 77\n"
    assert (one.notes("new") / "taken.txt").read_text() == "one\ntwo\n"
    assert "wryneck" not in one.everything().replace("wryneck 77\n", "")
    assert (one.notes("new") / "one.txt").read_text() == "one\n"


def test_without_the_passphrase_nothing_is_done(tmp_path: Path) -> None:
    one = trail(tmp_path, item(WAYS), sealed=PHRASE, hands={"word": "x"})
    for wrong in ("", "reed warbler"):
        one.hands["parcel.seal"] = wrong  # type: ignore[index]
        with pytest.raises(Waiting, match="a bird at the pond"):
            one.walk("old")
    assert not (one.folder / "old/root/home/ada/.local").exists()


@pytest.mark.parametrize("name", ["key.age", "sealed.txt"])
@pytest.mark.parametrize("how", ["changed", "gone", "another"])
def test_a_touched_seal_is_refused(tmp_path: Path, name: str, how: str) -> None:
    one = trail(tmp_path / "one", item(WAYS), sealed=PHRASE)
    path = one.at / name
    if how == "changed":
        path.write_bytes(path.read_bytes()[:-2] + b"x\n")
    elif how == "gone":
        path.unlink()
    else:
        other = trail(tmp_path / "other", item(WAYS), sealed=PHRASE)
        shutil.copy(other.at / name, path)
    with pytest.raises(ParcelUnusable):
        one.walk("old")


def test_the_header_takes_one_line_and_never_the_passphrase() -> None:
    seal, key = make_seal(PHRASE, "a bird")
    assert open_seal(read_header(seal.header(), "x"), key, PHRASE, "x") == seal
    with pytest.raises(WrongPassphrase):
        open_seal(seal, key, "reed", "x")
    for passphrase, hint in (("", "x"), ("x", "a\nb"), ("x", "a\u202bb\u2028"), ("Reed", "a reed")):
        with pytest.raises(InputUnusable):
            make_seal(passphrase, hint)
    for bad in (b"", b"\xff", b"Sealed: rot13\n", seal.header() * 2, seal.header() + b"More: x\n"):
        with pytest.raises(ParcelUnusable):
            read_header(bad, "x")


# Other tools take a parcel apart


@pytest.mark.skipif(not shutil.which("age"), reason="the age command is not installed")
def test_age_tar_sha256sum_and_a_bagit_tool_open_a_sealed_parcel(tmp_path: Path) -> None:
    one = trail(tmp_path / "one", item(WAYS), sealed=PHRASE, hands={"word": "x"})
    one.walk("old")
    done = subprocess.run(["sha256sum", "--quiet", "-c", "manifest-sha256.txt"], cwd=one.at)
    assert done.returncode == 0
    assert bagit.Bag(str(one.at)).is_valid()
    key, out = tmp_path / "key.txt", tmp_path / "out"
    out.mkdir()
    key.write_bytes(_at_a_terminal(["age", "-d", str(one.at / "key.age")], PHRASE))
    (segment,) = (one.at / "data/cargo").iterdir()
    open_it = f"age -d -i {key} {segment} | tar -xf - -C {out}"
    subprocess.run(["bash", "-o", "pipefail", "-c", open_it], check=True)
    assert (out / "fernbook.notes/one.txt").read_text() == "one\n"
    (made,) = (one.at / "data/made").rglob("list.age")
    ran = subprocess.run(["age", "-d", "-i", key, made], capture_output=True, check=True)
    assert ran.stdout == b"one\ntwo\n"


def _at_a_terminal(command: list[str], answer: str) -> bytes:
    """Run a command that asks for a passphrase at its terminal, and return what it prints."""
    reading, writing = os.pipe()
    child, terminal = pty.fork()
    if child == 0:
        os.dup2(writing, 1)
        os.execvp(command[0], command)
    os.close(writing)
    os.read(terminal, 1024)
    os.write(terminal, answer.encode() + b"\n")
    with os.fdopen(reading, "rb") as printed:
        data = printed.read()
    assert os.waitpid(child, 0)[1] == 0
    os.close(terminal)
    return data


# The command line


def test_sealing_by_the_command_line(world: World, tmp_path: Path) -> None:
    answers = tmp_path / "answers.yaml"
    answers.write_text(f"parcel.seal: {PHRASE}\n")
    given = ("--answers", str(answers))
    alone = world.plan("--seal")
    assert (alone.status, "no value was given" in alone.err) == (3, True)
    assert world.plan("--hint", "a bird").status == 2
    planned = world.plan("--seal", "--hint", "a bird", "--if-found", "call us", *given)
    assert (planned.status, "The parcel is sealed" in planned.out) == (0, True)
    unsealed = world.walk(world.old)
    assert (unsealed.status, "hint: a bird" in unsealed.err) == (3, True)
    assert world.walk(world.old, *given).status == 0
    assert world.walk(world.new, *given).status == 0
    report = widetrail("report", world.parcel, "--json").json
    assert {entry["state"] for entry in report["items"]} == {"carried"}
    assert PHRASE not in (world.parcel / "sealed.txt").read_text()


def test_a_write_that_is_refused_is_told_however_late_it_comes(tmp_path: Path) -> None:
    class Full(BytesIO):
        def write(self, data: object) -> int:
            raise OSError(errno.ENOSPC, "no space left")

    seal, _ = make_seal("reed bunting")
    for size in (0, 10, 200_000):  # the library is silent where its very last write fails
        with pytest.raises(OSError, match="no space left"):
            seal.close(BytesIO(bytes(size)), Full())
    sealed = BytesIO()
    seal.close(BytesIO(b"ten bytes!"), sealed)
    with pytest.raises(OSError, match="no space left"):
        seal.open(BytesIO(sealed.getvalue()), Full(), "here")
