"""The forms that there are: our own, and those that others add.

Another distribution adds a form by an entry point of the group ``widetrail.forms``: its name is the
form's, and it names a ``Form``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from widetrail.formats.added import Added
from widetrail.formats.form import Form, Role
from widetrail.lazily import Imported

GROUP = "widetrail.forms"
"""The group of entry points by which a distribution adds forms."""

_TREE: tuple[Role, ...] = ("reading", "set_in", "paths", "index", "write", "values")
_OWN: Mapping[str, tuple[str, tuple[Role, ...]]] = {
    "ini": ("ini", _TREE),
    "qt_ini": ("qt_ini", _TREE),
    "json": ("json", (*_TREE, "records")),
    "yaml": ("yaml", _TREE),
    "toml": ("toml", _TREE),
    "plist": ("plist", _TREE),
    "xml": ("xml", ("reading", "set_in", "paths", "write", "values")),
    "sqlite": ("sqlite", ("reading", "paths", "index", "write", "records")),
    "dconf": ("dconf", ("reading", "paths", "write")),
    "registry": ("reg", ("reading", "set_in", "paths", "write")),
    "text": ("text", ("reading", "set_in", "paths", "write")),
    "reg": ("reg", ("paths", "write")),
    "output": ("text", ("reading",)),
    "file": ("about_files", ("reading",)),
    "files": ("about_files", ("reading",)),
    "names": ("about_files", ("reading",)),
    "size": ("about_files", ("reading",)),
    "modified": ("about_files", ("reading",)),
    "mbox": ("mbox", ("records",)),
    "maildir": ("maildir", ("records",)),
    "eml": ("eml", ("records",)),
    "vcard": ("vcard", ("records",)),
    "icalendar": ("icalendar", ("records",)),
    "bookmarks": ("bookmarks", ("records",)),
    "opml": ("opml", ("records",)),
    "jsonl": ("jsonl", ("records",)),
    "csv": ("csv", ("records",)),
}
"""The module of each of our own forms, and what it can be used for: asked before it is imported."""


FORMS: Added[Form] = Added(
    Form,
    Imported("widetrail.formats", {n: (at, n.upper()) for n, (at, _) in _OWN.items()}),
    GROUP,
    "form",
)
"""The forms by name."""


def forms_for(role: Role) -> Iterator[str]:
    """Give the names of our own forms that can be used for that."""
    return (name for name, (_, roles) in _OWN.items() if role in roles)
