"""Dewcast, a stand-in: field recordings, markers and listening lists."""
