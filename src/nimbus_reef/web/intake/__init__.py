"""Files in: drop, map, load, look back."""
