"""A change that the system refused: how, and what to do about it."""

from __future__ import annotations

import errno
from collections.abc import Mapping
from typing import Literal

from widetrail.errors import Halted
from widetrail.formats.outside import StrPath

RefusedBy = Literal["disk full", "no permission", "broken disk", "read only"]
"""The ways in which a system refuses a change."""

REFUSALS: Mapping[RefusedBy, int] = {
    "disk full": errno.ENOSPC,
    "no permission": errno.EACCES,
    "broken disk": errno.EIO,
    "read only": errno.EROFS,
}
"""Their error numbers."""


class EffectFailed(Halted):
    """The system refused a change; ``code`` is its error number."""

    def __init__(self, kind: str, path: StrPath, error: OSError) -> None:
        todo = _TODO_WINDOWS.get(getattr(error, "winerror", None) or 0) or _TODO.get(
            error.errno or 0, "Fix the cause above, then run this again."
        )
        reason = error.strerror or str(error)
        super().__init__(f"cannot {kind}", where=str(path), why=reason, todo=todo)
        self.code = error.errno

    @property
    def refused_by(self) -> RefusedBy | None:
        """How the system refused it, or ``None`` where it is none of the usual ways."""
        found = (name for name, number in REFUSALS.items() if number == self.code)
        return next(found, None)


_TODO = {
    errno.ENOSPC: "Free some space there, then run this again; what was done so far is kept.",
    errno.EDQUOT: "Free some space there, then run this again; what was done so far is kept.",
    errno.EACCES: "Give the account the right to write there, then run this again.",
    errno.EPERM: "Give the account the right to write there, then run this again.",
    errno.EROFS: "Make it writable (the medium may have a switch), then run this again.",
    errno.ENOENT: "Connect the medium or disk again, then run this again.",
}


_TODO_WINDOWS = {
    19: _TODO[errno.EROFS],  # the medium is write protected
    21: _TODO[errno.ENOENT],  # the device is not ready
    32: "Close that program, then run this again.",  # sharing violation
    33: "Close that program, then run this again.",  # lock violation
    1314: "Run this as an administrator, or turn on developer mode, then run this again.",
}
"""What to do about codes of Windows that say more than the error number made of them."""
