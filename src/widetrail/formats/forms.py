"""The forms that there are: our own, and those that others add.

Another distribution adds a form by an entry point of the group ``widetrail.forms``: its name is the
form's, and it names a ``Form``.
"""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.formats.about_files import FILE, FILES, MODIFIED, NAMES, SIZE
from widetrail.formats.added import Added
from widetrail.formats.bookmarks import BOOKMARKS
from widetrail.formats.csv import CSV
from widetrail.formats.dconf import DCONF
from widetrail.formats.eml import EML
from widetrail.formats.form import Form, Role
from widetrail.formats.icalendar import ICALENDAR
from widetrail.formats.ini import INI
from widetrail.formats.json import JSON
from widetrail.formats.jsonl import JSONL
from widetrail.formats.maildir import MAILDIR
from widetrail.formats.mbox import MBOX
from widetrail.formats.opml import OPML
from widetrail.formats.plist import PLIST
from widetrail.formats.reg import REG, REGISTRY
from widetrail.formats.sqlite import SQLITE
from widetrail.formats.text import OUTPUT, TEXT
from widetrail.formats.toml import TOML
from widetrail.formats.vcard import VCARD
from widetrail.formats.xml import XML
from widetrail.formats.yaml import YAML

GROUP = "widetrail.forms"
"""The group of entry points by which a distribution adds forms."""

_OWN = (
    INI,
    JSON,
    YAML,
    TOML,
    PLIST,
    XML,
    SQLITE,
    DCONF,
    REGISTRY,
    TEXT,
    REG,
    OUTPUT,
    FILE,
    FILES,
    NAMES,
    SIZE,
    MODIFIED,
    MBOX,
    MAILDIR,
    EML,
    VCARD,
    ICALENDAR,
    BOOKMARKS,
    OPML,
    JSONL,
    CSV,
)

FORMS: Added[Form] = Added(Form, {form.name: form for form in _OWN}, GROUP, "form")
"""The forms by name."""


def forms_for(role: Role) -> Iterator[str]:
    """Give the names of our own forms that can be used for that."""
    return (name for name, form in FORMS.own.items() if form.can(role))
