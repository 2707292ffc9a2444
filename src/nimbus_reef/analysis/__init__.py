"""
What is asked about an account: a look in, typed answers out. Pages, commands and jobs ask here; it
knows none of them.
"""
