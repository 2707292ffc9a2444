"""The views of Standing, and what to look at where a metric is weak."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

VIEWS: Final[Mapping[str, str]] = {
    "tree": "Metric tree", "products": "Products", "formats": "Formats", "path": "Shopper’s path",
    "queries": "Query shares", "shape": "Account shape", "peers": "Peer figures",
}  # fmt: skip
TO_CHECK: Final[Mapping[str, str]] = {
    "ctr": "The first picture, price, rating and the start of the title, as they stand beside rivals in search; "
    "then whether the searches paid for are about this product at all.",
    "cvr": "The page: pictures, bullets, reviews, price against rivals, stock, delivery; then searches that "
    "want something else.",
    "cpc": "Bids and placement raises; then whether a quieter match or longer phrase brings the same buyers.",
    "aov": "Price, sizes and sets offered, and which variant the ads lead to.",
    "acos": "Conversion and price per click first: it is made of them and the order value.",
    "cart_rate": "Price, delivery and choice of variants: shoppers look and do not put it in the cart.",
    "purchase_rate": "Delivery time and cost, coupons, stock: shoppers have it in the cart and leave it there.",
}
