"""What is let go of at the end of a ``with``: files, databases and what is kept for a while."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Self


class Closing(ABC):
    """What is let go of at the end of a ``with``."""

    @abstractmethod
    def close(self) -> None:
        """Let go of everything."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()
