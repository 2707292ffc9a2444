"""Where and when ads run: placements, hours, budgets and boosts, each as asked about in a look."""
