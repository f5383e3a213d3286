"""What each command computes: from a request to a table, a grid, a figure or a page."""
