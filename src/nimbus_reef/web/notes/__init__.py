"""Notes on anything: written where the thing is open, found again in one list."""
