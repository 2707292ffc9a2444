"""Nimbus Reef: audits sponsored ad campaigns and leaves with one checked change sheet."""

__version__ = "0.1.0"
