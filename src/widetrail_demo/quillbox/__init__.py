"""Quillbox, a stand-in: mail, contacts, calendar, tasks and notes, kept in mailrooms."""
