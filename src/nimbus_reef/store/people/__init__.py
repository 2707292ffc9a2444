"""
What belongs to people: accounts, settings, plans, findings put away, closed audits, notes, saved
views, the trail.
"""
