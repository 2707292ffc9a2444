"""Nimbus Reef: audits sponsored ad campaigns and leaves with one checked change sheet."""

import ctypes
import os

# Sums of a few hundred thousand numbers are slower on several threads than on one, and each web
# process and worker would bring its own threads to the same few cores. Read when NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

# Arrays of a megabyte and more go back to the system when they are let go. The C library's allocator would
# learn to keep up to 32 MB of each size for the next one, which an account at size fills with what nobody uses.
# What is smaller may keep 16 MB at its end: giving every bit of it back costs more than it frees.
_M_TRIM_THRESHOLD, _M_MMAP_THRESHOLD, _MEGABYTE = -1, -3, 1 << 20
if hasattr(_c := ctypes.CDLL(None), "mallopt"):
    _c.mallopt(_M_MMAP_THRESHOLD, _MEGABYTE)
    _c.mallopt(_M_TRIM_THRESHOLD, 16 * _MEGABYTE)

__version__ = "0.1.0"
