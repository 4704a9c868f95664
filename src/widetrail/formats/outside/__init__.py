"""The one way to touch files that others may have made: of a parcel, a machine, a recipe.

Each folder on the way to a name is opened below the one that holds it, and never through a link:
somebody who exchanges a folder for a link, at whatever moment, leads nothing anywhere. A link at
the name itself is a link, and nothing is read or written through it. Only a regular file is read,
never waiting for a pipe, and never more than was said.

Linux does that in one call (openat2(2), ``RESOLVE_NO_SYMLINKS``); where that is not to be had, the
folders are opened one after the other. Windows opens no name below a folder: there the folders are
looked at a moment before, and somebody who works there in that moment can still exchange one.

A path here is whole and holds no link that is meant: who knows where its own begins resolves that.
"""

from widetrail.formats.outside.attributes import (
    access_lists_of,
    give_tree,
    set_access_lists,
    set_mode,
    set_owner,
    set_times,
)
from widetrail.formats.outside.changes import (
    cut,
    flush,
    flush_files,
    flush_folder,
    make_folder,
    make_hard_link,
    make_link,
    make_pipe,
    remove_file,
    remove_folder,
    rename,
    replace,
)
from widetrail.formats.outside.extended import USER_ATTRIBUTES, attributes_of, set_attributes
from widetrail.formats.outside.opening import (
    DOCUMENT_MOST,
    JOURNAL_MOST,
    LISTS_HANDLES,
    NO_REGULAR_FILE,
    StrPath,
    as_called,
    bytes_below,
    changed_ns,
    insist_regular,
    is_link,
    leads_on,
    link_target,
    listed_in,
    names_in,
    no_plain_folder,
    open_any,
    open_at,
    open_folder,
    open_regular,
    read_most,
    read_outside,
    reading_outside,
    status_of,
)
from widetrail.formats.outside.safe_path import SafePath

__all__ = [
    "DOCUMENT_MOST",
    "JOURNAL_MOST",
    "LISTS_HANDLES",
    "NO_REGULAR_FILE",
    "USER_ATTRIBUTES",
    "SafePath",
    "StrPath",
    "access_lists_of",
    "as_called",
    "attributes_of",
    "bytes_below",
    "changed_ns",
    "cut",
    "flush",
    "flush_files",
    "flush_folder",
    "give_tree",
    "insist_regular",
    "is_link",
    "leads_on",
    "link_target",
    "listed_in",
    "make_folder",
    "make_hard_link",
    "make_link",
    "make_pipe",
    "names_in",
    "no_plain_folder",
    "open_any",
    "open_at",
    "open_folder",
    "open_regular",
    "read_most",
    "read_outside",
    "reading_outside",
    "remove_file",
    "remove_folder",
    "rename",
    "replace",
    "set_access_lists",
    "set_attributes",
    "set_mode",
    "set_owner",
    "set_times",
    "status_of",
]
