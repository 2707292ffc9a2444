"""What is proposed on the rows of every view: one way for pages, findings and the command line to ask for it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Final

import polars as pl

from nimbus_reef.analysis import judged_proposals, own_actions
from nimbus_reef.analysis.catalog import ads, families, gaps, structure
from nimbus_reef.analysis.delivery import budgets, hours, placements, solutions
from nimbus_reef.analysis.judged_proposals import FILED_AS
from nimbus_reef.analysis.look import Look
from nimbus_reef.core.changes import Change
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import Placement
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts

Proposer = Callable[[Facts, Look, Sequence[str], Sequence[Change]], list[Proposal]]


def proposals(
    facts: Facts, look: Look, view: str, keys: Sequence[str], planned: Sequence[Change] = ()
) -> list[Proposal]:
    """What is proposed on rows of a view, in their order; NotFound for one that is not there. planned: the plan."""
    return PROPOSERS[view](facts, look, list(dict.fromkeys(keys)), planned)


def all_keys(facts: Facts, look: Look, view: str) -> list[str]:
    """Every row of a view that something may be proposed on."""
    if view in _SUBJECTS:
        return judged_proposals.judged(facts, look, _SUBJECTS[view])["row_id"].to_list()
    return _KEYS[view](facts, look)


_SUBJECTS: Final = {view: subject for subject, view in FILED_AS.items()}
_KEYS: Final[Mapping[str, Callable[[Facts, Look], list[str]]]] = {
    "families": lambda facts, look: [each.key for each in families.listed(facts, look)],
    "ads": lambda facts, look: ads.listed(facts, look)["row_id"].to_list(),
    "gaps": lambda facts, look: gaps.unadvertised(facts, look)["row_id"].to_list(),
    "structure": lambda facts, look: structure.duplicates(facts, look)["group"].unique(maintain_order=True).to_list(),
    "placements": lambda facts, look: placements.judged(facts, look)["row_id"].to_list(),
    "budgets": lambda _, __: ["budgets"],
}


def _judged(subject: Subject, facts: Facts, look: Look, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    order = pl.DataFrame({"row_id": keys}, schema={"row_id": pl.String})
    rows = order.join(judged_proposals.judged(facts, look, subject), on="row_id", maintain_order="left")
    if len(rows) < len(keys):
        raise NotFound(
            f"This {subject.name} has no activity in this period.", remedy="Choose another period, or close it."
        )
    made = judged_proposals.propose(facts, look, subject, rows)
    return own_actions.with_stops(facts, look, made) if subject is Subject.TERM else made


def _families(facts: Facts, look: Look, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    days = facts.monthly_days(look.account.id, families.KIND, look.window)
    # A line of the table may be a child: its family is meant.
    wanted = dict.fromkeys(key.split("/")[0] for key in keys)
    return [families.proposal(look, families.family(facts, look, key), days) for key in wanted]


def _ads(facts: Facts, look: Look, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    rows = ads.listed(facts, look).filter(pl.col("row_id").is_in(list(keys)))
    return ads.proposals(facts, look, rows.to_dicts())


def _gaps(facts: Facts, look: Look, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    return gaps.proposals(facts, look, [gaps.row_of(facts, look, key) for key in keys])


def _twins(facts: Facts, look: Look, keys: Sequence[str], _: Sequence[Change]) -> list[Proposal]:
    return [structure.proposal(facts, look, structure.twins(facts, look, key)) for key in keys]


def _placements(facts: Facts, look: Look, keys: Sequence[str], planned: Sequence[Change]) -> list[Proposal]:
    """Off-site rows are limited, any other asks for its campaign's solution, each campaign once."""
    made, solved = [], set[str]()
    days = facts.monthly_days(look.account.id, placements.KIND, look.window)
    for key in keys:
        row = placements.row_of(facts, look, key)
        campaign = str(row["campaign"])
        if row["placement"] == Placement.OFF_SITE.value:
            made.append(placements.limit_proposal(look, row, days))
        elif campaign not in solved:
            solved.add(campaign)
            made += _solutions(facts, look, [campaign], planned)
    return made


def _solutions(facts: Facts, look: Look, keys: Sequence[str], planned: Sequence[Change]) -> list[Proposal]:
    return [solutions.proposal(facts, look, solutions.solved(facts, look, key, planned)) for key in keys]


def _budgets(facts: Facts, look: Look, _: Sequence[str], __: Sequence[Change]) -> list[Proposal]:
    rows, told = budgets.held(facts, look), bool(facts.days(look.account.id, hours.KIND, look.window))
    return [budgets.proposal(rows, budgets.moved(facts, look), hours_told=told)]


PROPOSERS: Final[Mapping[str, Proposer]] = {
    **{view: partial(_judged, subject) for subject, view in FILED_AS.items()},
    "families": _families,
    "ads": _ads,
    "gaps": _gaps,
    "structure": _twins,
    "placements": _placements,
    "solutions": _solutions,
    "budgets": _budgets,
}
"""Who proposes on the rows of each view."""
