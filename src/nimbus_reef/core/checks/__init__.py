"""One module per family of checks; each check is one registered object."""

from nimbus_reef.core.checks.registry import CHECKS, Check, Found, run
from nimbus_reef.core.checks.targeting import (  # importing the family registers its checks
    WITH_ITS_PRODUCT,
    WORDS_TO_BID_LOWER,
    WORDS_TO_SHUT_OUT,
)

__all__ = ["CHECKS", "WITH_ITS_PRODUCT", "WORDS_TO_BID_LOWER", "WORDS_TO_SHUT_OUT", "Check", "Found", "run"]
