"""Round values along an axis that starts at nothing."""

from __future__ import annotations

from math import floor, log10
from typing import Final

_STEPS: Final = (1, 2, 2.5, 5, 10)


def round_steps(top: float, most: int = 6) -> tuple[float, ...]:
    """0 and what follows at a step of 1, 2, 2.5 or 5 times a power of ten, up to `top`; at most so many."""
    if top <= 0:
        return (0.0,)
    decade = 10.0 ** floor(log10(top / (most - 1)))
    step = next(step * decade for step in _STEPS if step * decade * (most - 1) >= top * (1 - 1e-12))
    return tuple(round(step * number, 10) for number in range(most) if step * number <= top * (1 + 1e-12))
