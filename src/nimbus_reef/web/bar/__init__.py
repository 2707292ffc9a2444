"""The scope bar: what its parts offer, and targets of one's own."""
