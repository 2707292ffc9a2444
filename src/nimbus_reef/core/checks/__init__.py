"""One module per family of checks; each check is one registered object."""

from nimbus_reef.core.checks import targeting as _targeting  # noqa: F401  registers its checks
from nimbus_reef.core.checks.registry import CHECKS, Check, Found, run

__all__ = ["CHECKS", "Check", "Found", "run"]
