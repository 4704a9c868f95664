"""Tillbook, a stand-in: book-keeping of the plant sale."""
