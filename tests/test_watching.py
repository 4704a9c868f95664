"""This machine watched while a person uses a program of it."""

from __future__ import annotations

import json
import os
import pty
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from conftest import contents, widetrail
from widetrail.machine import this_machine
from widetrail.tracing import load_trace
from widetrail.tracing.classes import Classes
from widetrail.tracing.live_watch import LiveWatch

SHELF = """#!/bin/sh
cd "$HOME"
mkdir -p .config/shelf books
echo started >>books/log.txt
case "$1" in
  add) echo "$2" >>books/books.txt ;;
  theme) printf '{"theme": "%s", "books": "%s/books"}' "$2" "$HOME" >.config/shelf/shelf.json ;;
  key) printf '{"token": "%s"}' "$2" >.config/shelf/keys.json ;;
esac
"""


@pytest.fixture
def shelf(own_home: Path) -> Callable[..., None]:
    """A program of the account, used as a person would."""
    program = own_home.parent / "shelf"
    program.write_text(SHELF)
    program.chmod(0o755)

    def use(*words: str) -> None:
        subprocess.run([program, *words], check=True, env={**os.environ, "HOME": str(own_home)})

    use("theme", "fern")
    use("add", "Mosses")
    return use


def test_what_a_person_does_is_found_again(own_home: Path, shelf: Callable[..., None]) -> None:
    machine = this_machine()
    watching = LiveWatch(machine, "shelf")
    watching.end("idle", "nothing")
    for _ in range(2):
        shelf("look")
        watching.end("start", "started, and closed again")
    shelf("add", "Bachstelze 7")
    watching.end("act", "added a book", "Bachstelze 7")
    shelf("theme", "dusk")
    watching.end("act", "another theme", "dusk")
    shelf("theme", "moss")
    watching.end("act", "another theme", "moss")
    shelf("key", "s3cr3t-t0ken")
    watching.end("act", "typed a key", "s3cr3t-t0ken", secret=True)
    trace = watching.trace("the shelf")
    found = {one.path: one for one in Classes(trace, machine).all}
    kinds = {path.removeprefix(f"{own_home}/"): one.kind for path, one in found.items()}
    assert kinds == {
        "books/books.txt": "data",
        "books/log.txt": "log",
        ".config/shelf/shelf.json": "setting",
        ".config/shelf/keys.json": "secret",
    }
    marked = [t.marker for run in trace.runs for t in run.touched if t.marker]
    assert marked[:3] == ["line 2", "value /theme", "value /theme"]
    values = [v for run in trace.runs for t in run.touched for v in t.values]
    assert ("/theme", "dusk", "moss") in [(v.at, v.before, v.after) for v in values]
    assert "s3cr3t" not in json.dumps(trace.as_json())
    assert "fern" not in json.dumps(trace.as_json()), "no file is read before it changes"


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="/proc tells open files")
def test_files_that_the_program_holds_open_are_seen(own_home: Path) -> None:
    (own_home / "held.txt").write_text("x")
    watching = LiveWatch(this_machine(), "tail")
    command = ["tail", "-f", str(own_home / "held.txt")]
    process = subprocess.Popen(command, stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.read(1)
    assert watching.running
    for _ in range(100):
        if watching.holds:
            break
        with suppress(subprocess.TimeoutExpired):
            process.wait(0.1)
    process.kill()
    process.wait()
    process.stdout.close()
    run = watching.end("start", "started")
    watching.trace("x")
    assert f"{own_home}/held.txt" in {t.path for t in run.touched if "read" in t.ways}


def test_looking_changes_nothing(own_home: Path, shelf: Callable[..., None]) -> None:
    before = contents(own_home)
    watching = LiveWatch(this_machine(), "shelf")
    watching.end("idle", "nothing")
    watching.trace("x")
    assert contents(own_home) == before


def test_a_person_is_led_through_it(own_home: Path, shelf: Callable[..., None]) -> None:
    record = own_home.parent / "shelf.traced.json"
    command = ["-m", "widetrail", "trace", "watch", "shelf", "--to", str(record)]
    person: list[tuple[bytes, str, tuple[str, ...]]] = [
        (b"while you use shelf?", "y", ()),
        (b"press Enter. ", "", ()),
        (b"press Enter. ", "", ()),
        (b"(1 of 2). Then press Enter. ", "", ("look",)),
        (b"(2 of 2). Then press Enter. ", "", ("look",)),
        (b"What did you do?", "added a book", ("add", "Bachstelze 7")),
        (b"type or choose?", "Bachstelze 7", ()),
        (b"Is that a secret?", "n", ()),
        (b"What did you do?", "", ()),
    ]
    child, terminal = pty.fork()
    if child == 0:
        os.execv(sys.executable, [sys.executable, *command])
    shown, since = b"", b""
    with suppress(OSError):
        while data := os.read(terminal, 4096):
            shown, since = shown + data, since + data
            if person and person[0][0] in since:
                _, answer, use = person.pop(0)
                since = b""
                if use:
                    shelf(*use)
                os.write(terminal, answer.encode() + b"\n")
    assert (os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), person) == (0, []), shown
    assert "books/books.txt:line2" in "".join(shown.decode().split()), "a line may be wrapped"
    trace = load_trace(record)
    assert [run.kind for run in trace.runs] == ["idle", "start", "start", "act"]
    ran = widetrail("trace", "show", record)
    assert ran.status == 0, ran.err
    assert "books/books.txt" in ran.out
    ran = widetrail("trace", "draft", record, own_home.parent / "drafted")
    assert ran.status == 2
    assert "was made of this machine" in ran.err


def test_without_a_person_nothing_is_watched(own_home: Path) -> None:
    ran = widetrail("trace", "watch", "shelf", "--to", own_home / "x.json")
    assert ran.status == 3
    assert "a person is needed" in ran.err
    assert not (own_home / "x.json").exists()
