"""One module per family of checks; each check is one registered object."""

from nimbus_reef.core.checks import products, targeting  # importing a family registers its checks
from nimbus_reef.core.checks.registry import CHECKS, AreaKey, Check, Found, Money, Reading, Subject, run

__all__ = [
    "CHECKS", "AreaKey", "Check", "Found", "Money", "Reading", "Subject", "products", "run", "targeting",
]  # fmt: skip
