"""How rows get into the record, and out again."""
