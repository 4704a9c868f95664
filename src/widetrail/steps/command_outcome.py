"""What a command that ended told, and what is wrong with how it ended."""

from __future__ import annotations

import signal
from collections.abc import Collection, Mapping

from widetrail.formats import Unreadable
from widetrail.formats.expressions import read_text_value
from widetrail.formats.parser_process import ask_pattern
from widetrail.formats.texts import for_people
from widetrail.machine import Completed
from widetrail.machine.interface import printed_text


def trouble_of(completed: Completed, wanted: Collection[int]) -> str:
    """Return what is wrong with how a command ended, or an empty text."""
    if completed.status < 0:
        return f"it was ended by {_signal(-completed.status)}"
    if completed.status not in wanted:
        expected = " or ".join(map(str, wanted))
        return f"its exit status is {completed.status}, expected {expected}"
    if completed.left:
        return f"it left {', '.join(completed.left)} running, which was ended"
    return ""


def _signal(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


def values_told(expressions: Mapping[str, str], completed: Completed) -> tuple[dict[str, str], str]:
    """Return the values that a program told, by name, and what is wrong with them in words.

    ``expressions`` have one group each, which is found once in what it printed.
    """
    if not expressions:
        return {}, ""
    try:
        text = printed_text(completed.printed)
    except UnicodeDecodeError as error:
        return {}, f"what it printed is not a valid text (byte {error.start})"
    told: dict[str, str] = {}
    for name, expression in expressions.items():
        try:
            matches = ask_pattern(read_text_value, text, expression)
        except Unreadable as error:
            return told, f"{name}: what it printed {error}"
        if len(matches) != 1:
            return told, f"it prints {name} {len(matches)} times, expected once"
        told[name] = str(matches[0].value)
    return told, ""


def last_lines(completed: Completed) -> str:
    """Return the last lines of what a program printed, for a person."""
    text = completed.errors.strip() or completed.output.strip()
    return " / ".join(for_people(line.strip()) for line in text.splitlines()[-3:])[:400]


def said(words: str) -> str:
    """Return a program's last words as the end of a sentence; nothing where it said none."""
    return f"; its output: {words}" if words else ""
