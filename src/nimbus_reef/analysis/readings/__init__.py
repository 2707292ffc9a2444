"""
What checks read: the rows that each selects from, with what findings are told by.

All have row_id, stake (micro-units per 30 days), campaign, ad_group, target, match_type and the measures (money in
micro-units); those whose overspend overlaps with that of others the ids of the ad group or campaign. Rows that are
called by themselves have name and where besides; further what their reading says. One module per area; each reader is
registered under its reading.
"""

from importlib import import_module
from pkgutil import iter_modules

from nimbus_reef.analysis.readings.register import READERS, reading, reads

__all__ = ["READERS", "reading", "reads"]

# Importing a module registers its readers.
for _module in iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")
