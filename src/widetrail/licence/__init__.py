"""Licences: the seat as a pure state machine, exchange files, and a stand-in licence service."""
