"""Accepted changes, the change sheet out and in."""
