"""Findings: everything found, ranked by money, to be accepted or put away."""
