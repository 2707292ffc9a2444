"""Movement: who moved the figures, and through which factor."""
