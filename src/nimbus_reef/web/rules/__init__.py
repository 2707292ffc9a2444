"""Own actions on rows of any list, and own rules."""
