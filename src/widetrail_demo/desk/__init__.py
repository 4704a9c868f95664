"""Desk, a stand-in for the desktop itself: pointer, launch strip, pinned places, sign-ins."""
