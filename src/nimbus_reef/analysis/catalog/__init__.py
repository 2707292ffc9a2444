"""What is advertised: families, product ads, eligibility, gaps, pages, structure, names and the catch-all."""
