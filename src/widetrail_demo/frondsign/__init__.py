"""Frondsign, a stand-in: signs and labels for beds."""
