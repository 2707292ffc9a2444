"""Delivery: where and when ads run, and what their budgets and boosts do."""
