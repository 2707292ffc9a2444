"""The pages. Routes are thin; what a page says is made in each area's `pages`, without Flask."""
