"""Reading from a medium, which may be taken away or fail at any moment."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from widetrail.errors import Halted

PACK_AGAIN = "Nothing was changed here. Pack again on the old computer, or take an unchanged copy."
"""What to do where something of a parcel is missing, damaged or not its own."""


@contextmanager
def reading(path: Path) -> Iterator[None]:
    """Tell in words what the system says when something of a parcel cannot be read.

    Raises:
        Halted: The medium is gone, or fails.
    """
    try:
        yield
    except OSError as error:
        raise unreadable(path, error) from error


def unreadable(path: Path, error: OSError) -> Halted:
    """Return in words what the system says."""
    return Halted(
        "the parcel cannot be read",
        where=str(error.filename or path),
        why=error.strerror or str(error),
        todo="Connect the medium again, or take another copy of the parcel; then run again.",
    )
