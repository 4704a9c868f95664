"""Wicketleaf, a stand-in: the plain mail program that a computer has instead of Quillbox."""
