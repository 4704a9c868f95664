"""Mistvane, a stand-in: the misting add-in of Trellisdesk, with a licence of its own."""
