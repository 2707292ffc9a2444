"""Nimbus Reef: audits sponsored ad campaigns and leaves with one checked change sheet."""

import os

# Sums of a few hundred thousand numbers are slower on several threads than on one, and each web
# process and worker would bring its own threads to the same few cores. Read when NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
