"""Labels of one's own: put on products and campaigns, taken off, read from a file."""
