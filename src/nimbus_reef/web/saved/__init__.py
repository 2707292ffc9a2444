"""Views of tables, kept under a name."""
