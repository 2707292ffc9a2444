"""A finding as a thing to do: its rows with what is proposed on each, and what may have brought it about."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import deeds, made_changes, proposals
from nimbus_reef.analysis.findings import Findings, Group
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.proposals import FILED_AS, Proposed
from nimbus_reef.core.changes import Change, Promise
from nimbus_reef.core.checks import Check, Reading, Subject
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts

OF_PRODUCTS: Final = (Reading.MOVED,)
"""What is found of products then and now."""


@dataclass(frozen=True, slots=True)
class Opened:
    """
    A finding, or all of a check. rows: as found; proposed: the judged rows in it with what is proposed on each, the
    most money first;
    product: the SKU it is about, where it is about one; raises: bids that were raised between the two
    windows where it is advertised, with the change that sets each back.
    """

    check: Check
    rows: pl.DataFrame
    row_id: str
    proposed: tuple[Proposed, ...] = ()
    product: str = ""
    raises: tuple[tuple[Change, Promise, Mapping[str, Any]], ...] = ()


def group_of(found: Findings, key: str, row_id: str) -> Group:
    """The findings of a check, or one of them; NotFound where it is not found any more."""
    group = next((each for each in found.groups if each.check.key == key), None)
    rows = None if group is None else group.rows.filter(pl.col("row_id") == row_id) if row_id else group.rows
    if group is None or rows is None or rows.is_empty():
        raise NotFound("This is not found any more in these days.", remedy="Look at the findings again.")
    return Group(group.check, rows)


def opened(facts: Facts, look: Look, group: Group, row_id: str) -> Opened:
    """What is in a finding, or in all findings of a check where none is named."""
    check, rows = group.check, group.rows
    product = _product(check, rows) if row_id else ""
    if check.subject in FILED_AS:
        members = rows["members"].explode().drop_nulls().unique()
        judged = proposals.judged(facts, look, check.subject).filter(pl.col("row_id").is_in(members.implode()))
        made = proposals.propose(facts, look, check.subject, judged.sort("stake", descending=True, maintain_order=True))
        return Opened(check, rows, row_id, tuple(deeds.without_raises_of_nothing(made)), product)
    raises: Sequence[tuple[Change, Promise, Mapping[str, Any]]] = ()
    if check.reads in OF_PRODUCTS and product and look.against is not None:
        raises, _ = made_changes.set_back(facts, look, made_changes.bought_by(facts, look, product))
    return Opened(
        check, rows, row_id, product=product, raises=tuple(sorted(raises, key=lambda each: -each[2]["spend"]))
    )


def _product(check: Check, rows: pl.DataFrame) -> str:
    """The SKU that a finding is about, empty where it is about none alone."""
    row = rows.row(0, named=True)
    if check.gathers:
        return str(row["company"]) if row["company_level"] == "main_product" else ""
    if check.reads is Reading.GAPS:
        return str(row["drag_sku"] or "")
    return str(row["name"]) if check.subject is Subject.PRODUCT else ""
