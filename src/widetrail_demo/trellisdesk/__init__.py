"""Trellisdesk, a stand-in: the greenhouse control desk."""
