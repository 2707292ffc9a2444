"""Standing: every figure against category peers and against before."""
