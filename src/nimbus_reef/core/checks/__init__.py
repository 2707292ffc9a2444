"""One module per family of checks; each check is one registered object."""

from nimbus_reef.core.checks.registry import CHECKS, Check, Found, run
from nimbus_reef.core.checks.targeting import WITH_ITS_PRODUCT  # importing the family registers its checks

__all__ = ["CHECKS", "WITH_ITS_PRODUCT", "Check", "Found", "run"]
