"""Pulse: every brand account at once."""
