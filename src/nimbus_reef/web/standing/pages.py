"""The views of Standing, and what to look at where a metric is weak."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

VIEWS: Final[Mapping[str, str]] = {
    "tree": "Metric tree",
    "products": "Products",
    "formats": "Formats",
    "path": "Shopper’s path",
    "queries": "Query shares",
    "shape": "Account shape",
    "peers": "Peer figures",
}
