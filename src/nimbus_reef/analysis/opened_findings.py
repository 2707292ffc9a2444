"""A finding as a thing to do: its rows with what is proposed on each, and what may have brought it about."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import judged_proposals, made_changes, own_actions
from nimbus_reef.analysis.findings import Findings, Group
from nimbus_reef.analysis.judged_proposals import FILED_AS, propose
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Check, Reading, Subject
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts

OF_PRODUCTS: Final = (Reading.MOVED,)
"""What is found of products then and now."""


@dataclass(frozen=True, slots=True)
class Opened:
    """
    A finding, or all of a check. rows: as found; proposed: what is proposed on the judged rows in it, the most money
    first;
    product: the SKU it is about, where it is about one; raises: bids that were raised between the two
    windows where it is advertised, with the change that sets each back.
    """

    check: Check
    rows: pl.DataFrame
    row_id: str
    proposed: tuple[Proposal, ...] = ()
    product: str = ""
    raises: tuple[tuple[Proposal, Mapping[str, Any]], ...] = ()


def group_of(found: Findings, key: str, row_id: str) -> Group:
    """The findings of a check, or one of them; NotFound where it is not found any more."""
    group = next((each for each in found.groups if each.check.key == key), None)
    rows = None if group is None else group.rows.filter(pl.col("row_id") == row_id) if row_id else group.rows
    if group is None or rows is None or rows.is_empty():
        raise NotFound("This finding no longer exists in this period.", remedy="Reload the findings.")
    return Group(group.check, rows)


def opened(facts: Facts, selection: Selection, group: Group, row_id: str) -> Opened:
    """What is in a finding, or in all findings of a check where none is named."""
    check, rows = group.check, group.rows
    product = _product(check, rows) if row_id else ""
    if check.subject in FILED_AS:
        members = rows["members"].explode().drop_nulls().unique()
        judged = judged_proposals.judged(facts, selection, check.subject)
        mine = judged.filter(pl.col("row_id").is_in(members.implode()))
        proposals = propose(facts, selection, check.subject, mine.sort("stake", descending=True, maintain_order=True))
        if check.subject is Subject.TERM:
            proposals = own_actions.with_stops(facts, selection, proposals)
        return Opened(check, rows, row_id, tuple(proposals), product)
    raises: list[tuple[Proposal, Mapping[str, Any]]] = []
    if check.reads in OF_PRODUCTS and product and selection.against is not None:
        bought = made_changes.bought_by(facts, selection, product)
        by_key = {row["row_id"]: row for row in bought.to_dicts()}
        back = [each for each in made_changes.set_back(facts, selection, bought) if each.package]
        raises = sorted(((each, by_key[each.row_id]) for each in back), key=lambda pair: -pair[1]["spend"])
    return Opened(check, rows, row_id, product=product, raises=tuple(raises))


def _product(check: Check, rows: pl.DataFrame) -> str:
    """The SKU that a finding is about, empty where it is about none alone."""
    row = rows.row(0, named=True)
    if check.gathers:
        return str(row["cohort"]) if row["cohort_level"] == "main_product" else ""
    if check.reads is Reading.GAPS:
        return str(row["drag_sku"] or "")
    return str(row["name"]) if check.subject is Subject.PRODUCT else ""
