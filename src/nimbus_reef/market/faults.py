"""What goes wrong on purpose: the marketplace as it is on a bad day, for trying whoever asks it."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Final


class Fault(StrEnum):
    """
    What happens to a request: told to come back later; an error; a slow answer; the connection falls before anything is
    done, or after all is done. PARTIAL: rows of a change set are refused for no reason; DUPLICATE: lines of a report
    come twice.
    """

    THROTTLE = "throttle"
    ERROR = "error"
    SLOW = "slow"
    DROP_BEFORE = "drop_before"
    DROP_AFTER = "drop_after"
    PARTIAL = "partial"
    DUPLICATE = "duplicate"


OF_REQUESTS: Final = (Fault.THROTTLE, Fault.ERROR, Fault.SLOW, Fault.DROP_BEFORE, Fault.DROP_AFTER)


@dataclass
class Faults:
    """
    chances: how often each fault strikes, 0 to 1. script: faults that strike once each, in their order, at requests
    whose path begins so. slow: seconds of a slow answer; outage_until: nothing is answered before (of the monotonic
    clock); skew: seconds by which the service's clock is wrong.
    """

    chances: Mapping[Fault, float] = field(default_factory=dict)
    script: list[tuple[str, Fault]] = field(default_factory=list)
    slow: float = 0.5
    outage_until: float = 0.0
    skew: float = 0.0
    rng: random.Random = field(default_factory=lambda: random.Random(11))  # noqa: S311
    lock: threading.Lock = field(default_factory=threading.Lock)

    def strike(self, path: str, among: Sequence[Fault] = OF_REQUESTS) -> Fault | None:
        """The fault that a request of a path has; None for none."""
        with self.lock:
            if Fault.ERROR in among and time.monotonic() < self.outage_until:
                return Fault.ERROR
            for place, (prefix, fault) in enumerate(self.script):
                if path.startswith(prefix) and fault in among:
                    del self.script[place]
                    return fault
            return next((each for each in among if self.rng.random() < self.chances.get(each, 0.0)), None)

    def some(self, count: int) -> list[int]:
        """About half of so many places."""
        with self.lock:
            return [place for place in range(count) if self.rng.random() < 0.5] or [0]

    def set(self, wanted: Mapping[str, Any]) -> None:
        """Other faults from now on. ValueError for a fault that there is not."""
        chances = {Fault(name): float(chance) for name, chance in wanted.get("chances", {}).items()}
        script = [(str(path), Fault(name)) for path, name in wanted.get("script", [])]
        with self.lock:
            self.chances, self.script = chances, script
            self.slow = float(wanted.get("slow", self.slow))
            self.skew = float(wanted.get("skew", 0.0))
            self.outage_until = time.monotonic() + float(wanted.get("outage", 0.0))
