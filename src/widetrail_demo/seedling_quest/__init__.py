"""Seedling Quest, a stand-in: learning trails for school visits."""
