"""One module per family of checks; each check is one registered object."""

from importlib import import_module
from pkgutil import iter_modules

from nimbus_reef.core.checks.registry import (
    CHECKS,
    AreaKey,
    Check,
    Found,
    Money,
    Overlap,
    Reading,
    Subject,
    register,
    run,
)

__all__ = ["CHECKS", "AreaKey", "Check", "Found", "Money", "Overlap", "Reading", "Subject", "register", "run"]

# Importing a family registers its checks.
for _family in iter_modules(__path__):
    import_module(f"{__name__}.{_family.name}")
