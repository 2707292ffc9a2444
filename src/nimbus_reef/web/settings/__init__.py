"""Accounts, and everything that is a setting of one."""
