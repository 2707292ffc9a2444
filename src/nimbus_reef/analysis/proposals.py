"""What is proposed on the rows of every view: one way for pages, findings and the command line to ask for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Final

import polars as pl

from nimbus_reef.analysis import judged_proposals, out_of_budget, own_actions, taking_back
from nimbus_reef.analysis.catalog import ads, families, gaps, structure
from nimbus_reef.analysis.delivery import budgets, placements, solutions
from nimbus_reef.analysis.judged_proposals import FILED_AS
from nimbus_reef.analysis.outcome import judged
from nimbus_reef.analysis.reach import buying, ranks, shares
from nimbus_reef.analysis.reach.pool import listed
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.changes import Change
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import Placement
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts

Proposer = Callable[[Facts, Selection, Sequence[str], Sequence[Change]], list[Proposal]]


def proposals(
    facts: Facts, selection: Selection, view: str, keys: Sequence[str], planned: Sequence[Change] = ()
) -> list[Proposal]:
    """What is proposed on rows of a view, in their order; NotFound for one that is not there. planned: the plan."""
    return PROPOSERS[view](facts, selection, list(dict.fromkeys(keys)), planned)


def all_keys(facts: Facts, selection: Selection, view: str) -> list[str]:
    """Every row of a view that something may be proposed on."""
    if view in _SUBJECTS:
        return judged_proposals.judged(facts, selection, _SUBJECTS[view])["row_id"].to_list()
    return _KEYS[view](facts, selection)


_SUBJECTS: Final = {view: subject for subject, view in FILED_AS.items()}
_KEYS: Final[Mapping[str, Callable[[Facts, Selection], list[str]]]] = {
    "families": lambda facts, selection: [each.key for each in families.listed(facts, selection)],
    "ads": lambda facts, selection: ads.listed(facts, selection)["row_id"].to_list(),
    "gaps": lambda facts, selection: gaps.unadvertised(facts, selection)["row_id"].to_list(),
    "duplicates": lambda facts, selection: (
        structure.duplicates(facts, selection)["group"].unique(maintain_order=True).to_list()
    ),
    "placements": lambda facts, selection: placements.judged(facts, selection)["row_id"].to_list(),
    "budgets": lambda _, __: ["budgets"],
    buying.VIEW: lambda facts, selection: listed(facts, selection)["row_id"].to_list(),
    **dict.fromkeys(ranks.VIEWS, lambda facts, selection: ranks.gaps(facts, selection)["row_id"].to_list()),
    shares.TOP_VIEW: lambda facts, selection: shares.top_of_search(facts, selection).rows["row_id"].to_list(),
    shares.TERMS_VIEW: lambda facts, selection: shares.small_shares(facts, selection).rows["row_id"].to_list(),
    taking_back.VIEW: lambda facts, selection: [
        str(each.done.id) for each in judged.outcomes(facts, selection).entries
    ],
}


def _judged(
    subject: Subject, facts: Facts, selection: Selection, keys: Sequence[str], _: Sequence[Change]
) -> list[Proposal]:
    order = pl.DataFrame({"row_id": keys}, schema={"row_id": pl.String})
    rows = order.join(judged_proposals.judged(facts, selection, subject), on="row_id", maintain_order="left")
    if len(rows) < len(keys):
        raise NotFound(
            f"This {subject.name} has no activity in this period.", remedy="Choose another period, or close it."
        )
    entries = judged_proposals.propose(facts, selection, subject, rows)
    return own_actions.with_stops(facts, selection, entries) if subject is Subject.TERM else entries


def _families(facts: Facts, selection: Selection, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    days = facts.monthly_days(selection.account.id, families.KIND, selection.window)
    # A line of the table may be a child: its family is meant.
    wanted = dict.fromkeys(key.split("/")[0] for key in keys)
    return [families.proposal(selection, families.family(facts, selection, key), days) for key in wanted]


def _ads(facts: Facts, selection: Selection, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    rows = ads.listed(facts, selection).filter(pl.col("row_id").is_in(list(keys)))
    return ads.proposals(facts, selection, rows.to_dicts())


def _gaps(facts: Facts, selection: Selection, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    return gaps.proposals(facts, selection, [gaps.row_of(facts, selection, key) for key in keys])


def _twins(facts: Facts, selection: Selection, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    return [structure.proposal(facts, selection, structure.twins(facts, selection, key)) for key in keys]


def _placements(facts: Facts, selection: Selection, keys: Sequence[str], planned: Sequence[Change]) -> list[Proposal]:
    """Off-site rows are limited, any other asks for its campaign's solution, each campaign once."""
    entries, solved = [], set[str]()
    days = facts.monthly_days(selection.account.id, placements.KIND, selection.window)
    for key in keys:
        row = placements.row_of(facts, selection, key)
        campaign = str(row["campaign"])
        if row["placement"] == Placement.OFF_SITE.value:
            entries.append(placements.limit_proposal(selection, row, days))
        elif campaign not in solved:
            solved.add(campaign)
            entries += _solutions(facts, selection, [campaign], planned)
    return entries


def _solutions(facts: Facts, selection: Selection, keys: Sequence[str], planned: Sequence[Change]) -> list[Proposal]:
    return [solutions.proposal(facts, selection, solutions.solved(facts, selection, key, planned)) for key in keys]


def _budgets(facts: Facts, selection: Selection, _: Sequence[str], __: Sequence[Change]) -> list[Proposal]:
    rows, present = (
        budgets.campaign_rows(facts, selection),
        bool(facts.days(selection.account.id, out_of_budget.KIND, selection.window)),
    )
    return [budgets.proposal(rows, budgets.moved(facts, selection), hours_told=present)]


PROPOSERS: Final[Mapping[str, Proposer]] = {
    **{view: partial(_judged, subject) for subject, view in FILED_AS.items()},
    "families": _families,
    "ads": _ads,
    "gaps": _gaps,
    "duplicates": _twins,
    "placements": _placements,
    "solutions": _solutions,
    "budgets": _budgets,
    buying.VIEW: lambda facts, selection, keys, _: buying.proposals(facts, selection, keys),
    **dict.fromkeys(ranks.VIEWS, lambda facts, selection, keys, _: ranks.proposals(facts, selection, keys)),
    shares.TOP_VIEW: partial(_judged, Subject.TARGET),
    shares.TERMS_VIEW: lambda facts, selection, keys, _: shares.keywords(facts, selection, keys),
    taking_back.VIEW: lambda facts, selection, keys, _: taking_back.proposals(facts, selection, keys),
}
"""Who proposes on the rows of each view."""
