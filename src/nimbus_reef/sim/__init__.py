"""
The simulated marketplace: a made-up world from a seed, with its hidden truth.

Blind to the core's formulas on purpose: it knows true probabilities, draws what a
report would show, and so is an independent oracle for what the audit concludes.
"""
