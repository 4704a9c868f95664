"""Brackenwend, a stand-in for reading the web: bookmarks, history and saved pages."""
