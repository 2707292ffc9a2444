"""The `reef` command."""
