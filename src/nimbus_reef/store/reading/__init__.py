"""Frames read from the record, kept while nothing is loaded."""
