"""Names of campaigns by the account's own pattern: what fits, what breaks it, what breaking names would be called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.delivery.placements import main_products
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import naming
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.naming import ParsedNames
from nimbus_reef.core.projection import NOTHING
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.store.reading import setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "names"


def campaign_names(facts: Facts, look: Look) -> list[str]:
    """All campaigns of the account, in order of the alphabet."""
    known = setting_frames.campaign_settings(facts, look.account.id, look.window)
    return sorted(known["campaign"].cast(pl.String).to_list())


def suggestion(facts: Facts, look: Look) -> str:
    """The pattern that most names keep."""
    return naming.suggested(campaign_names(facts, look))


def parsed(facts: Facts, look: Look, text: str | None = None) -> ParsedNames | None:
    """All names by a pattern, the account's own when none is given; None without one that can be read."""
    pattern = look.account.naming if text is None else text

    def make() -> ParsedNames | None:
        found = naming.pattern(pattern)
        return None if found is None else naming.parse(found, campaign_names(facts, look))

    return facts.kept("parsed names", look.account.id, make, look.window.last, pattern)


@dataclass(frozen=True, slots=True)
class Rename:
    """A campaign that breaks the pattern and what it might be called; free: no other campaign is called so."""

    name: str
    proposed: str
    free: bool


def renames(facts: Facts, look: Look) -> list[Rename]:
    """What breaking names would be called by what is known of the campaign: its main product, its match types."""
    found = naming.pattern(look.account.naming)
    read = parsed(facts, look)
    if found is None or read is None:
        return []
    known = {part: [value for value, _ in values] for part, values in read.counts.items()}
    told = _told(facts, look, read.breaks, known)
    taken = set(campaign_names(facts, look))
    made = []
    for name in read.breaks:
        proposed = naming.rename(found, name, known, told.get(name, {}))
        made.append(Rename(name, proposed, proposed not in taken))
        taken.add(proposed)
    return made


def _told(
    facts: Facts, look: Look, names: Sequence[str], known: Mapping[str, Sequence[str]]
) -> dict[str, dict[str, str]]:
    """
    By campaign, parts that its reports tell: the match type where it has one; the product whose code starts its main
    SKU.
    """
    targets = target_frames.targets(facts, look.account.id).filter(
        pl.col("campaign").cast(pl.String).is_in(list(names))
    )
    products = main_products(facts, look.account.id, look.window)
    settings = setting_frames.campaign_settings(facts, look.account.id, look.window)
    main = dict(
        settings.select("campaign_id", pl.col("campaign").cast(pl.String))
        .join(products, on="campaign_id")
        .select("campaign", "main_product")
        .rows()
    )
    found: dict[str, dict[str, str]] = {}
    for name in names:
        own = targets.filter(pl.col("campaign").cast(pl.String) == name)
        matches = {match for match in own["match_type"].cast(pl.String).unique() if not match.startswith("negative")}
        parts = {}
        if len(matches) == 1:
            parts["match"] = matches.pop()
        elif matches:
            parts["match"] = "mixed"
        sku = main.get(name, "")
        codes = [code for code in known.get("product", ()) if sku.startswith(code)]
        if codes:
            parts["product"] = max(codes, key=len)
        found[name] = parts
    return found


def proposal(look: Look, name: str, new: str) -> Proposal:
    """A campaign's new name as a row of the change sheet."""
    renamed = change(Entity.CAMPAIGN, "name", name, new, name, CHECK)
    return Proposal(
        EntityKey(Subject.CAMPAIGN, name),
        name,
        Headline(HeadlineKey.RENAME, (new,)),
        ((renamed, promise(look, NO_BASIS, "names", name, NOTHING)),),
        (Reason(ReasonKey.BREAKS_PATTERN, (name, look.account.naming)),),
    )
