"""Answers that are kept for the next time the same is asked about the same contents."""

from __future__ import annotations

from collections import OrderedDict

MANY, EACH = 512, 32 * 1024
"""How many answers are kept, and bytes of the largest of them."""


class KeptAnswers:
    """The newest answers by what was asked, each as bytes: nobody changes another's answer.

    What was asked must hold all that an answer depends on, so that it never grows old.
    """

    def __init__(self) -> None:
        self._kept: OrderedDict[str, bytes] = OrderedDict()

    def get(self, asked: str) -> bytes | None:
        """Return the answer to what was asked, where it is kept."""
        if (found := self._kept.get(asked)) is not None:
            self._kept.move_to_end(asked)
        return found

    def keep(self, asked: str, answer: bytes) -> None:
        """Keep an answer; those that were not asked for longest go."""
        if len(answer) > EACH:
            return
        self._kept[asked] = answer
        while len(self._kept) > MANY:
            self._kept.popitem(last=False)
