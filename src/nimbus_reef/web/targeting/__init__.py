"""Targets and search terms, and the evidence on each."""
