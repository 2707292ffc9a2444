"""The marketplace that an account is linked to: what it is asked for, when, and what came."""
