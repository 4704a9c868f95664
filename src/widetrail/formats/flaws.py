"""What a validator of a document raises: a rule's code, a message and a hint.

Apart from the documents themselves, since what only reads data of programs needs no models.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from widetrail.findings import did_you_mean

if TYPE_CHECKING:
    from pydantic_core import PydanticCustomError


def flaw(rule: str, message: str, hint: str = "") -> PydanticCustomError:
    """Make the error that a validator raises: a rule code, a message and a hint."""
    from pydantic_core import PydanticCustomError

    context = {"message": message, "hint": hint}
    return PydanticCustomError(f"wt:{rule}", "{message}", context)


def expected_one_of(rule: str, found: str, known: Iterable[str]) -> PydanticCustomError:
    """Make the error for a word that is none of those known."""
    words = list(known)
    message = f'expected {either(words)}; found "{found}"'
    return flaw(rule, message, did_you_mean(found, words))


def either(words: list[str]) -> str:
    """Return the words as a message names them: one, or one of several."""
    quoted = [f'"{w}"' for w in words]
    return quoted[0] if len(quoted) == 1 else f"one of {', '.join(quoted)}"
