"""Reach: where to win more."""
