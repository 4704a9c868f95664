"""Open formats as bytes and streams: reading a value out of each."""

from widetrail.formats.canonical import canonical, digest
from widetrail.formats.interface import Located, Raw, Unreadable

__all__ = ["Located", "Raw", "Unreadable", "canonical", "digest"]
