"""Running a command of an application: behind a gate, judged, given back where it failed."""

from __future__ import annotations

import signal
from collections.abc import Sequence

from widetrail.errors import Halted, Waiting, WideTrailError
from widetrail.finding import Known, Unknown
from widetrail.formats.bounded import ask
from widetrail.formats.interface import Unreadable
from widetrail.formats.texts import for_people
from widetrail.machine import Channels, Completed
from widetrail.machine.paths import base
from widetrail.recipe.conditions import parse_duration
from widetrail.recipe.templates import plain
from widetrail.steps.commands import COMMAND, ENDED_BY, UNDONE_BY, RunRule, show_command
from widetrail.steps.interface import (
    Asked,
    Doing,
    Done,
    Facts,
    Failed,
    Outcome,
    Step,
)
from widetrail.steps.proving import holding, missing, take
from widetrail.steps.saving import keep_first, put_back, save


def run_step(step: Step, doing: Doing) -> Outcome:
    """Run the command of a step, and judge how it ended."""
    places = [doing.fill(step, place) for place in step.changes]
    known = _known_end(step, doing)
    if isinstance(known, Done):
        return _with_aside(known, step, doing, places)
    if known is not None:
        return known
    rule = doing.rule(step)
    assert isinstance(rule, RunRule)
    try:
        for place in places:
            save(step, doing, place)
        _clear_made(step, doing)
        outcome = _start(step, rule, doing)
    except Halted:
        if not _ended_well(step, doing):  # else only what comes after it is to be done again
            _give_back(step, doing, places)
        raise
    except WideTrailError as error:
        outcome = Failed(str(error), error.todo or _TODO, {})
    if isinstance(outcome, Failed):
        _give_back(step, doing, places)
        return outcome
    assert isinstance(outcome, Done)
    return _with_aside(outcome, step, doing, places)


def _with_aside(outcome: Done, step: Step, doing: Doing, places: Sequence[str]) -> Outcome:
    """Return an outcome with where what was there before is kept."""
    aside: Facts = {"put aside": [k for p in places if (k := keep_first(step, doing, p))]}
    return Done({**outcome.facts, **aside})


def _give_back(step: Step, doing: Doing, places: Sequence[str]) -> None:
    """Put back what was saved, and remove what was made half; nothing came of the run."""
    for place in places:
        put_back(step, doing, place)
    _clear_made(step, doing)


def _start(step: Step, rule: RunRule, doing: Doing) -> Outcome:
    if step.texts(ENDED_BY):
        doing.at_end(step, step.texts(ENDED_BY))
    seconds = parse_duration(step.text("within")).total_seconds()
    stdin = doing.fill(step, step.text("stdin")) + "\n" if "stdin" in step.arguments else ""
    pairs = (text.partition("=") for text in step.texts("env"))
    env = {name: doing.fill(step, value) for name, _, value in pairs}
    # what is filled in last is known first: nothing may halt between journal and start
    doing.command(step, step.texts(COMMAND))
    doing.record("run begun", step=step.id)
    if undone_by := step.texts(UNDONE_BY):
        program, arguments = doing.command(step, undone_by)
        told: Facts = {"command": [program, *arguments], "before": _is_done(step, rule, doing)}
        doing.record("undone by", step=step.id, **told)

    def began(pid: int, started: float) -> None:
        doing.record("run started", step=step.id, pid=pid, started=started)

    channels = Channels(stdin.encode(), env, None, began)
    if not step.text("stdout"):
        completed = doing.run(step, step.texts(COMMAND), seconds, channels)
    else:
        to = doing.machine.host(doing.fill(step, step.text("stdout")))
        with doing.machine.effects.create(to) as file:
            channels = Channels(stdin.encode(), env, file, began)
            completed = doing.run(step, step.texts(COMMAND), seconds, channels)
            file.sync()
    return _judged(step, rule, doing, completed)


def _clear_made(step: Step, doing: Doing) -> None:
    for made in step.writes:
        host = doing.machine.host(doing.fill(step, made))
        doing.machine.effects.make_folders(host.parent, 0o700)
        if host.is_symlink() or host.is_file():
            doing.machine.effects.remove_file(host)
        elif host.is_dir():
            doing.machine.effects.remove_tree(host)


OF_SEAT = "seat"
"""The argument of a step that is one of an act on a seat: the act's purpose."""

_TODO = "Mend what the reason names, then walk again; nothing of it is left half-way."


def _known_end(step: Step, doing: Doing) -> Outcome | None:
    """Return the outcome of a run that was begun before, or ``None`` where it is to be run.

    Raises:
        Waiting: Only a person can say how it ended, and nobody does.
    """
    if not was_run(step, doing):
        return None
    begun, started = doing.recorded("run begun", step.id), doing.recorded("run started", step.id)
    ended = doing.recorded("run ended", step.id)
    assert begun is not None and started is not None
    taken_back = doing.recorded("ended", step.id)
    if taken_back is not None and _at(taken_back) > _at(begun):
        return None  # what it began was ended with an earlier walk
    if ended is not None and _at(ended) > _at(begun):
        if ended["trouble"] or step.texts("tells secrets") or _no_file(step, doing):
            return None  # it ended badly, or what it told or made is not here: once more
        return _kept(step, doing, {"status": ended["status"], "tells": ended["tells"]})
    doing.await_ended(int(str(started["pid"])), float(str(started["started"])))
    rule = doing.rule(step)
    assert isinstance(rule, RunRule)
    if rule.done_when and not missing(doing, step.item, rule.done_when):
        return _kept(step, doing, {"resumed": "done_when holds"})
    answer = "repeat"
    if step.repeat != "safe" and OF_SEAT not in step.arguments:  # there the program's word decides
        words = f"How {show_command(step.texts('command'))} ended is not known. Was it done?"
        choices = ("done", "repeat") if step.repeat == "ask" else ("done",)
        asked = Asked(step.item.partition(".")[0], step.id, words, choices=choices)
        answer = doing.ask(asked) or ""
    if answer == "done":
        return _kept(step, doing, {"resumed": "a person says it was done"})
    if answer != "repeat":
        raise Waiting(
            f"how {show_command(step.texts('command'))} ended is not known",
            where=step.id,
            why="the walk was cut off while it ran",
            todo="Look whether it did its work, then walk again and answer.",
        )
    for place in (doing.fill(step, p) for p in step.changes):
        put_back(step, doing, place)
    return None


def was_run(step: Step, doing: Doing) -> bool:
    """Return whether the command of a step was let run before, since it was to be done again."""
    begun, started = doing.recorded("run begun", step.id), doing.recorded("run started", step.id)
    if begun is None or started is None or _at(started) < _at(begun):
        return False  # the gate was never opened, so it never ran
    again = doing.recorded("to be done again", step.id)
    return again is None or _at(again) < _at(begun)


def _ended_well(step: Step, doing: Doing) -> bool:
    begun, ended = doing.recorded("run begun", step.id), doing.recorded("run ended", step.id)
    return bool(begun and ended and _at(ended) > _at(begun) and not ended["trouble"])


def _at(record: Facts) -> int:
    return int(str(record["at"]))


def _judged(step: Step, rule: RunRule, doing: Doing, completed: Completed) -> Outcome:
    """Return how a run came out, by everything the recipe says of it."""
    told, trouble = _told(rule, completed)
    facts: Facts = {"status": completed.status, "tells": dict(told)}
    for name, value in told.items():
        if name in doing.secrets(step):
            doing.secret(step, name, value)
    trouble = _ended_badly(step, rule, completed) or trouble or _no_file(step, doing)
    trouble = trouble or _disagrees(step, doing, told)
    if not trouble and rule.done_when:
        trouble = "; ".join(missing(doing, step.item, rule.done_when))
    if not trouble:
        doing.settle_down([doing.fill(step, place) for place in step.changes], step.item)
    if trouble:
        facts["done"] = _is_done(step, rule, doing)
    doing.record("run ended", step=step.id, trouble=trouble, **facts)
    if trouble:
        said = _said(completed)
        return Failed(f"{trouble}{f'; it said: {said}' if said else ''}", _TODO, facts)
    return _kept(step, doing, facts)


def _is_done(step: Step, rule: RunRule, doing: Doing) -> bool | None:
    """Return whether what a run makes is there now; ``None`` where nothing tells."""
    return holding(doing, step.item, rule.done_when) if rule.done_when else None


def status_of(step: Step, doing: Doing) -> int | None:
    """Return the exit status of the newest run of a step; ``None`` where it was cut off."""
    begun, ended = doing.recorded("run begun", step.id), doing.recorded("run ended", step.id)
    known = begun is not None and ended is not None and _at(ended) > _at(begun)
    return int(str(ended["status"])) if known and ended is not None else None


def _kept(step: Step, doing: Doing, facts: Facts) -> Outcome:
    names = [base(doing.fill(step, made)) for made in step.writes]
    folder = doing.machine.host(doing.room_for_made(step.item))
    lost = [name for name in names if not (folder / name).is_file()]
    if lost:
        return Failed(f"it made no file {', '.join(lost)}", _TODO, facts)
    doing.keep(step.item, names)
    made: Facts = {"made": list(names)} if names else {}
    return Done({**facts, **made})


def _ended_badly(step: Step, rule: RunRule, completed: Completed) -> str:
    if completed.status < 0:
        return f"it was ended by {_signal(-completed.status)}"
    if completed.status not in rule.exit:
        wanted = " or ".join(map(str, rule.exit))
        return f"it ended with {completed.status}, and {wanted} was expected"
    if completed.left:
        return f"it left {', '.join(completed.left)} running, which was ended"
    return ""


def _signal(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


def _no_file(step: Step, doing: Doing) -> str:
    for made in step.writes:
        host = doing.machine.host(doing.fill(step, made))
        if not host.is_file():
            return f"it made no file {base(plain(made))}"
        if host.stat().st_size == 0:
            return f"the file {base(plain(made))} that it made is empty"
    return ""


def _told(rule: RunRule, completed: Completed) -> tuple[dict[str, str], str]:
    """Return the values a program told, and what is wrong with them in words."""
    if not rule.tells:
        return {}, ""
    try:
        text = completed.printed.decode("utf-8")
    except UnicodeDecodeError as error:
        return {}, f"what it printed is no valid text (byte {error.start})"
    told: dict[str, str] = {}
    for name, expression in rule.tells.items():
        try:
            matches = ask("expressions", text, expression)
        except Unreadable as error:
            return told, f"{name}: what it printed {error}"
        if len(matches) != 1:
            return told, f"it tells {name} {len(matches)} times, and once was expected"
        told[name] = str(matches[0].value)
    return told, ""


def _disagrees(step: Step, doing: Doing, told: dict[str, str]) -> str:
    """Return where a told value is not what the reading of that name gives here."""
    readings, item = doing.finder(step.item).loaded.recipe.readings, doing.item(step.item)
    for name, value in told.items():
        check = item.checks.get(name)
        if name not in readings or (check is not None and not doing.looked_at(step.item, name)):
            continue
        found = take(doing, step.item, name)
        if isinstance(found, Unknown) or not _same(found, value):
            return f"it tells {name} {value}, and the reading is {found}"
    return ""


def _same(found: Known, told: str) -> bool:
    if isinstance(found.value, int | float) and not isinstance(found.value, bool):
        try:
            return float(told) == found.value
        except ValueError:
            return False
    return str(found) == told


def _said(completed: Completed) -> str:
    """Return the last lines of what a program printed, for a person."""
    text = completed.errors.strip() or completed.output.strip()
    return " / ".join(for_people(line.strip()) for line in text.splitlines()[-3:])[:400]
