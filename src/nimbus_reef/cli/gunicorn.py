"""gunicorn, with what it serves made inside each of its processes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from gunicorn.app.base import BaseApplication


class Gunicorn(BaseApplication):  # type: ignore[misc]  # gunicorn has no types
    """make: makes the application inside each worker, so that no socket is shared; options: gunicorn's own."""

    def __init__(self, make: Callable[[], Any], options: Mapping[str, Any]) -> None:
        self._make, self._options = make, options
        super().__init__()

    def load_config(self) -> None:
        """Takes over the options."""
        for name, value in self._options.items():
            self.cfg.set(name, value)

    def load(self) -> Any:
        """What is served."""
        return self._make()
