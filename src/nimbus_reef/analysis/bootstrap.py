"""Days drawn again and again: the same draws always, so that an interval is the same on every page."""

from __future__ import annotations

from functools import lru_cache
from typing import Final

import numpy as np

from nimbus_reef.core.peers import Floats

_DRAWS: Final = 400
_SEED: Final = 20


@lru_cache(maxsize=64)
def draws(days: int) -> Floats:
    """How often each of so many days is drawn, draw × day."""
    drawn = np.random.default_rng(_SEED).integers(0, days, (_DRAWS, days))
    return np.stack([np.bincount(draw, minlength=days) for draw in drawn]).astype(np.float64)
