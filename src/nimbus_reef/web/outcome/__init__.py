"""Outcome: did carried-out changes keep their promise."""
