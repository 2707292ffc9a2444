"""Taking carried-out changes back: proposals that set things to what they were."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final

from nimbus_reef.analysis.outcome import judged
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, promise
from nimbus_reef.core.changes import Entity, inverse, word_of
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.projection import UNKNOWN
from nimbus_reef.core.promises import Promise, projected
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts

VIEW: Final = "sent-changes"
CHECK: Final = "taken back"
_SUBJECTS: Final = {
    Entity.TARGET: Subject.TARGET,
    Entity.NEGATIVE: Subject.TARGET,
    Entity.PRODUCT_AD: Subject.AD,
    Entity.PLACEMENT: Subject.PLACEMENT,
}


def _proposal(selection: Selection, entry: ChangeOutcome) -> Proposal:
    """What undoes a change, with what the thing did since as its basis; nothing where it cannot be undone."""
    change_id, change = entry.done.id, entry.change
    subject = EntityKey(
        _SUBJECTS.get(change.entity, Subject.CAMPAIGN), change.campaign, change.ad_group, change.target or change.sku
    )
    back = inverse(change)
    if back is None:
        why = (Reason(ReasonKey.CANNOT_SET_BACK),)
        return Proposal(subject, str(change_id), Headline(HeadlineKey.LEAVE), reasons=why)
    back = replace(back, finding=CHECK)
    result = _basis(entry) or promise(selection, NO_BASIS, "", "", UNKNOWN)
    return Proposal(
        subject,
        str(change_id),
        Headline(HeadlineKey.SET, (word_of(back), back.old_value, back.new_value)),
        ((back, result),),
        (Reason(ReasonKey.TAKEN_BACK, (change.row,)),),
        effect=projected(back, result),
        homes=((back.campaign, back.ad_group),),
        # What kept its promise, or may yet, goes back only where somebody wants just that.
        optional=entry.verdict is not OutcomeVerdict.DID_NOT,
    )


def proposals(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[Proposal]:
    """What undoes carried-out changes, by their numbers; NotFound for one that was not carried out."""
    found = {str(each.done.id): each for each in judged.outcomes(facts, selection).entries}
    if missing := [key for key in keys if key not in found]:
        raise NotFound(f"Change {missing[0]} was not carried out.", remedy="Reload the list.")
    return [_proposal(selection, found[key]) for key in keys]


def _basis(entry: ChangeOutcome) -> Promise | None:
    """What the thing did since its change, as a promise to go back rests on it; None where that is not known."""
    if entry.sides is None or entry.after is None or entry.worth is None:
        return None
    sides, worth = entry.sides, entry.worth.after(entry.sides)
    return replace(
        entry.done.promise,
        window=(entry.after.first.isoformat(), entry.after.last.isoformat()),
        clicks=round(sides.clicks_after),
        orders=round(sides.orders_after),
        spend=sides.spend_after,
        sales=sides.orders_after * worth.order_value,
        a=worth.a,
        b=worth.b,
        projected={},
        profit=None,
    )
