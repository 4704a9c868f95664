"""An item that is put in place: the step of a plan, and what is known of it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, Protocol

from pydantic import Field

from widetrail.formats.stored_values import Count, Text
from widetrail.recipe import Existing
from widetrail.steps.contexts import Cargo, OfItem, Paths, Work
from widetrail.steps.journal_events import Moves, StepRecord
from widetrail.steps.outcomes import Facts
from widetrail.steps.step import Step


class Has(Work, OfItem, Cargo, Paths, Protocol):
    """What putting an item in place takes."""


EXISTING = {
    "back up": "existing files are backed up",
    "refuse": "nothing may exist there yet",
    "replace": "existing files of the same name are backed up, others stay",
    "alongside": "beside existing files, under another name",
    "skip": "existing files stay, and those of the same name remain in the parcel",
}


OUTSIDE = "outside"
"""The folder below a place into which files go that lay elsewhere; of a place that is a file it is
beside it, and begins with its name."""


class PublishStep(Step):
    """An item that is put in place, at ``target`` where that is ``elsewhere`` than its own place.

    ``single`` tells that it is one file, ``shared`` that other items take what is there too.
    """

    kind: Literal["publish"] = "publish"
    target: str
    existing: Existing
    elsewhere: bool = False
    single: bool = False
    shared: bool = False

    @property
    def puts_elsewhere(self) -> bool:
        return self.elsewhere


class PublishFacts(Facts):
    """What was put in place, where, and what came there under another name.

    ``came_as`` are paths below the place that are called otherwise, ``beside`` what came beside
    something, ``passed_by`` what was left in the parcel, ``verified`` files that were read again.
    """

    files: Count = 0
    size: Count = 0
    verified: Count = 0
    to: Text = ""
    came_as: dict[Text, Text] = Field(default_factory=dict)
    beside: tuple[Text, ...] = ()
    passed_by: tuple[Text, ...] = ()
    paths_rewritten: Count = 0


class _WithPath(StepRecord):
    path: Text

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.path


class StagingBegun(_WithPath):
    """An item is made ready in a folder."""

    event = "staging"


class StagedSoFar(_WithPath):
    """So many entries of an item are ready, durable and verified."""

    event = "staged so far"

    count: Count


class Staged(_WithPath):
    """All of an item is ready."""

    event = "staged"

    facts: PublishFacts


class Placing(Moves):
    """The moves that bring an item into its place, with what is known of it by then."""

    event = "placing"

    facts: PublishFacts


class Published(StepRecord):
    """An item is in its place."""

    event = "published"
    ends_moves = True

    facts: PublishFacts


CHECKPOINT = 96 * 1024 * 1024
"""Bytes that are staged, at least, before what was staged so far is made durable."""


CHECKPOINT_FILES = 5000
"""Entries that are staged, at least, before it is, where they are small."""


VERIFIERS = 4
"""Files that are read back from the disk at a time."""


FEW = 1024 * 1024
"""Bytes up to which all that is read back is read one file after the other."""
