"""Sporelog, a stand-in: specimen records with scanned plates, ordered on shelves."""
