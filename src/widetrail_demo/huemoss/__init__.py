"""Huemoss, a stand-in: palettes and plant stamps for bed plans."""
