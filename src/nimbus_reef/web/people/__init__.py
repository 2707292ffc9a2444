"""Who may sign in: setting up, inviting, oneself, the trail."""
