"""Files that are one with another: a database and its journals.

SQLite keeps what was committed last in ``NAME-wal`` or, of a transaction that was cut off, what is
to be rolled back in ``NAME-journal`` (sqlite.org/tempfiles.html): a database without them is
another one, and one beside those of another is damaged. ``NAME-shm`` is made anew.
"""

from __future__ import annotations

JOURNALS = ("-wal", "-journal")
"""What the name of a file ends in that is of a database: it goes with it, whatever is taken."""

BESIDE = (*JOURNALS, "-shm")
"""What may lie beside a database, and must go away with it."""

SQLITE = b"SQLite format 3\0"
"""The first bytes of a database (sqlite.org/fileformat2.html, 1.3)."""


_MAGIC = bytes.fromhex("d9d505f920a163d7")
"""What a rollback journal begins with, and ends with where it names another file
(sqlite.org/fileformat2.html, 3; the super-journal of a transaction over several databases)."""


def names_another(journal: bytes) -> bool:
    """Return whether the last bytes of a rollback journal say that another file is to be removed
    when it is played back."""
    return journal[-8:] == _MAGIC and len(journal) > 8


def database_of(path: str) -> tuple[str, str]:
    """Return the path of the file that ``path`` would be a journal of, and what follows it; two
    empty texts where its name is none of a journal."""
    for ending in JOURNALS:
        if path.endswith(ending) and not path.removesuffix(ending).endswith("/"):
            return path.removesuffix(ending), ending
    return "", ""
