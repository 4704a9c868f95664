"""Loamlens, a stand-in: root-scan analysis with a licence in two editions."""
