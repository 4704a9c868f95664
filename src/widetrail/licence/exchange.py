"""The files by which a seat is released or claimed without a network: requests and answers.

The engine names them by application, purpose, machine, partner and attempt, so that a person tells
them apart; which answer belongs to which request is told by what is in them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.formats import digest
from widetrail.lazily import dataclass
from widetrail.licence.terms import Purpose

REQUEST, ANSWER = ".request", ".answer"
_MOST = 40


@dataclass(frozen=True)
class Exchange:
    """What a request and its answer are about: ``attempt`` counts the acts on the seat."""

    application: str
    purpose: Purpose
    machine: str
    partner: str
    attempt: int

    @property
    def stem(self) -> str:
        """The name of both files before its ending, which any medium can hold."""
        named = (_fit(text) for text in (self.machine, self.partner))
        one, other = named
        return f"{self.application}-{self.purpose}-{one}-for-{other}-{self.attempt}"

    @property
    def request(self) -> str:
        """The name of the request."""
        return f"{self.stem}{REQUEST}"

    @property
    def answer(self) -> str:
        """The name of the answer."""
        return f"{self.stem}{ANSWER}"


def _fit(name: str) -> str:
    """Return a name of a machine in what any file name can hold; no two names give one."""
    fit = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:_MOST]
    return fit if fit == name else f"{fit}-{digest(name.encode())[:4]}".strip("-")


def wrong_answer(
    file: str, wanted: str, found: str, requests: Mapping[str, str], answers: Mapping[str, str]
) -> str:
    """Return why the answer in ``file`` is not the one to a request, naming the right one.

    ``wanted`` is what the request calls itself, ``found`` what the answer says it is to.
    ``requests`` and ``answers`` are the names of the files that are known, by what they say.
    """
    asked = requests.get(found)
    belongs = (
        f"answers {asked}" if asked is not None else "answers a request that is not known here"
    )
    right = answers.get(wanted)
    where = (
        f"the right one lies in {right}"
        if right is not None
        else f"the right one is the answer to {requests.get(wanted, 'the request')}"
    )
    return f"what lies in {file} {belongs}; {where}"
