"""Taking carried-out changes back: proposals that set things to what they were."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, promise
from nimbus_reef.core.changes import ChangeState, Entity, inverse, word_of
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.projection import UNKNOWN
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.store.people.sendings import SentChange

CHECK: Final = "taken back"
_SUBJECTS: Final = {
    Entity.TARGET: Subject.TARGET,
    Entity.NEGATIVE: Subject.TARGET,
    Entity.PRODUCT_AD: Subject.AD,
    Entity.PLACEMENT: Subject.PLACEMENT,
}


def proposals(selection: Selection, sent: Sequence[SentChange]) -> list[Proposal]:
    """What undoes changes that were carried out, each for itself; nothing of what cannot be undone."""
    found = []
    for each in sent:
        back = inverse(each.change) if each.result is ChangeState.DONE else None
        if back is None:
            continue
        back = replace(back, finding=CHECK)
        result = promise(selection, NO_BASIS, "", "", UNKNOWN)
        found.append(
            Proposal(
                EntityKey(
                    _SUBJECTS.get(back.entity, Subject.CAMPAIGN), back.campaign, back.ad_group, back.target or back.sku
                ),
                str(each.id),
                Headline(HeadlineKey.SET, (word_of(back), back.old_value, back.new_value)),
                ((back, result),),
                (Reason(ReasonKey.TAKEN_BACK, (each.change.row,)),),
                effect=UNKNOWN,
                homes=((back.campaign, back.ad_group),),
            )
        )
    return found
