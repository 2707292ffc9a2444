"""Sending changes to a marketplace, and what became of every one of them."""
