"""What pages are made of: figures, charts, strips, splits, answers, and what is said where figures are missing."""
