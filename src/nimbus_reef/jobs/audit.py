"""One audit of one account over one window: judged rows and what each check finds."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core import checks, company, costly_words, evidence, targeting, words
from nimbus_reef.core import findings as findings_rules
from nimbus_reef.core.checks import Found
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.evidence import STAKE_DAYS, flagged
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.jobs import products
from nimbus_reef.jobs.narrow import EVERYTHING, Narrow
from nimbus_reef.store import campaign_frames, product_frames, target_frames, word_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.away import PutAway
from nimbus_reef.store.facts import TARGET_SOURCES, Facts, Held

SOURCES: Final = (*TARGET_SOURCES, "product_ad_daily")
"""Reports that findings come from."""


@dataclass(frozen=True, slots=True)
class Audit:
    """Everything judged. Money in the frames is in micro-units."""

    account: Account
    window: Window
    aims: Aims
    source: Held
    targets: pl.DataFrame
    terms: pl.DataFrame
    words: pl.DataFrame

    def rows(self, subject: Subject) -> pl.DataFrame:
        """The judged rows of one subject."""
        return {Subject.TARGET: self.targets, Subject.TERM: self.terms, Subject.PHRASE: self.words}[subject]

    def found(self) -> list[Found]:
        """Every check, largest stake first."""
        results = [checks.run(check, self.rows(check.subject)) for check in checks.CHECKS.values()]
        return sorted(results, key=lambda each: each.stake, reverse=True)


def judged_targets(facts: Facts, account: Account, window: Window, aims: Aims) -> pl.DataFrame:
    """All targets of the window, judged, with their row_id; kept until something is loaded."""
    kind = facts.held(account.id, window).kind

    def rows() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        rows = target_frames.target_rows(facts, account.id, window)
        return targeting.in_company(rows, fit and fit.targets, ["target_id"])

    return _judged(facts, account, window, aims, "targets", kind, rows, _TARGET_ID)


def judged_terms(facts: Facts, account: Account, window: Window, aims: Aims) -> pl.DataFrame:
    """All search terms of the window, judged, with their row_id; kept until something is loaded."""

    def rows() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        rows = target_frames.term_rows(facts, account.id, window)
        return targeting.in_company(rows, fit and fit.terms, ["ad_group_id", "normal_id"])

    return _judged(facts, account, window, aims, "terms", "search_term_daily", rows, _TERM_ID)


def judged_words(facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow) -> pl.DataFrame:
    """
    What the search terms come to by the words they share, and of single words what they themselves do.

    Narrowed before they are summed: a phrase is what it did in the part looked at. Phrases of two and three
    words are judged among phrases as long; a word by its factor (see `costly_words.judged`), with its fate.
    """

    def make() -> pl.DataFrame:
        terms = narrow.part(facts, account, window, judged_terms(facts, account, window, aims))
        days = facts.monthly_days(account.id, "search_term_daily", window)
        phrases = words.by_phrase(
            terms, word_frames.tokens(facts, account.id), word_frames.vocabulary(facts, account.id), MEASURES
        )
        in_company = evidence.with_priors(phrases, ("length",))
        judged = targeting.judged(in_company, days, Aims(aims.account), account.min_clicks)
        rows = costly_words.beside(judged, own_words(facts, account, window, aims, narrow))
        spent = int(terms["spend"].sum())
        # Rows overlap, so a share is of what the terms cost, not of the rows' sum.
        return rows.with_columns(
            row_id=pl.col("phrase").str.head(64),
            spelt=_as_spelt(rows["example"], rows["phrase"]),
            share_of_spend=pl.col("spend") / spent if spent else pl.lit(None),
        )

    key = ("words", account.id, facts.generation(account.id), window, aims, account.min_clicks, narrow)
    return facts.cache.get(key, make)


def _as_spelt(examples: pl.Series, phrases: pl.Series) -> pl.Series:
    """Phrases as a term spells them; of joined words each."""
    return pl.Series(
        [
            " + ".join(words.spelt(example, part) or part for part in phrase.split(" + "))
            for example, phrase in zip(examples.to_list(), phrases.to_list(), strict=True)
        ],
        dtype=pl.String,
    )


def own_words(facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow) -> pl.DataFrame:
    """
    What every word itself does in a part of the account, with its fate: see `costly_words.judged`.

    With row_id and spelt as in `judged_words`, and as rows of findings have them spend, stake (its waste; 0 where unknown),
    clicks and orders; sales are not told apart by word.
    """

    def make() -> pl.DataFrame:
        fit = target_frames.fitted(facts, account.id, window)
        if fit is None or fit.holds is None:
            return costly_words.nothing()
        terms = narrow.part(facts, account, window, judged_terms(facts, account, window, aims))
        days = facts.monthly_days(account.id, "search_term_daily", window)
        cores = product_frames.title_cores(facts, account.id, window, account.brand)
        brands = product_frames.brand_words(facts, account.id, account.brand)
        named = terms.select(example_id="normal_id", example="term").unique("example_id")
        rows = costly_words.with_fate(costly_words.judged(fit, terms, days), cores, brands)
        rows = rows.join(named, on="example_id", how="left", maintain_order="left")
        return rows.with_columns(
            spelt=_as_spelt(rows["example"], rows["word"]),
            row_id=pl.col("word").str.head(64), stake=pl.col("waste").fill_null(0), clicks="word_clicks", orders="came",
            sales=pl.lit(0, pl.Int64), campaign=pl.lit(""), ad_group=pl.lit(""), target="word", match_type=pl.lit(""),
        )  # fmt: skip

    key = ("own words", account.id, facts.generation(account.id), window, aims, account.min_clicks, narrow)
    return facts.cache.get(key, make)


def judged_ads(facts: Facts, account: Account, window: Window, aims: Aims) -> pl.DataFrame:
    """All product ads of the window, judged in the company of what their product does elsewhere."""

    def rows() -> pl.DataFrame:
        rows = product_frames.ad_rows(facts, account.id, window)
        ads = rows.select("product_ad_id", "ad_group_id", "product_id", "clicks", "orders")
        return targeting.in_company(rows, company.fitted_ads(ads), ["product_ad_id"], targeting.AD_CHAIN)

    return _judged(facts, account, window, aims, "ads", "product_ad_daily", rows, _AD_ID)


_NAMES: Final = (
    "campaign",
    "ad_group",
    "match_type",
    "main_product",
    "name_part",
    "own_portfolio",
    "family",
    "category",
    "format",
    "portfolio",
    "sku",
)
_TARGET_ID: Final = pl.col("target_id").cast(pl.String)
_TERM_ID: Final = pl.concat_str("ad_group_id", "normal_id", separator="-")
_AD_ID: Final = pl.col("product_ad_id").cast(pl.String)
"""What a row is called in a URL and on record."""


def _judged(
    facts: Facts, account: Account, window: Window, aims: Aims, what: str, kind: str,
    rows: Callable[[], pl.DataFrame], row_id: pl.Expr,
) -> pl.DataFrame:  # fmt: skip
    def make() -> pl.DataFrame:
        days = facts.monthly_days(account.id, kind, window)
        judged = targeting.judged(rows(), days, aims, account.min_clicks)
        # Many rows and few names: as categories they take a quarter of the room.
        names = [pl.col(name).cast(pl.Categorical) for name in _NAMES if name in judged.columns]
        return judged.with_columns(row_id.alias("row_id"), *names)

    return facts.cache.get(_judged_key(facts, account, window, aims, what), make)


def _judged_key(facts: Facts, account: Account, window: Window, aims: Aims, what: str) -> tuple[object, ...]:
    return ("judged", what, account.id, facts.generation(account.id), window, aims, account.min_clicks)


def stake_of_targets(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow = EVERYTHING
) -> int:
    """
    Micro-units per 30 days at stake in all targets of a part of the account. Kept beside the judged rows, which are large and
    may have to give way.
    """

    def make() -> int:
        rows = narrow.part(facts, account, window, judged_targets(facts, account, window, aims))
        return int(rows.select(pl.col("stake").filter(flagged()).sum()).item())

    return facts.cache.get(("stake", narrow, *_judged_key(facts, account, window, aims, "targets")), make)


def stake_known(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow = EVERYTHING
) -> int | None:
    """The same, as far as it is known without judging for it."""
    key = _judged_key(facts, account, window, aims, "targets")
    known: int | None = facts.cache.peek(("stake", narrow, *key))
    if known is None and facts.cache.peek(key) is not None:
        return stake_of_targets(facts, account, window, aims, narrow)
    return known


def winners(facts: Facts, account: Account, window: Window, aims: Aims) -> pl.DataFrame:
    """Terms that earn a target of their own, most sales first, with their row ids."""
    terms = judged_terms(facts, account, window, aims)
    return findings_rules.winners(
        terms,
        target_frames.live_own(facts, account.id, window),
        target_frames.kin(facts, account.id, window),
    )


WINNERS = "winners"
"""The one list that is an opportunity; its rows carry no stake."""


@dataclass(frozen=True, slots=True)
class Group:
    """Findings that need the same thing done, largest first; money in micro-units."""

    key: str
    title: str
    to_do: str
    subject: Subject
    rows: pl.DataFrame
    stake: int
    spend: int


@dataclass(frozen=True, slots=True)
class Findings:
    """
    Everything found that is not put away. overspend: per 30 days, the same money once;
    spend, sales: of all targets in the window; hidden: what is away now.
    """

    groups: tuple[Group, ...]
    overspend: int
    spend: int
    sales: int
    hidden: tuple[PutAway, ...]

    def stake_of(self, checks: Collection[str]) -> int:
        """What the findings of some checks come to, micro-units per 30 days."""
        return sum(group.stake for group in self.groups if group.key in checks)

    def count(self) -> int:
        """How many findings there are."""
        return sum(len(group.rows) for group in self.groups)


def findings(
    facts: Facts, account: Account, window: Window, aims: Aims, away: Sequence[PutAway], today: date,
    narrow: Narrow = EVERYTHING,
) -> Findings:  # fmt: skip
    """The findings of an account in a window, those put away left out while their time runs."""
    hidden = tuple(each for each in away if _still_away(facts, account, each, window, today))
    found = facts.cache.get(
        (*_findings_key(facts, account, window, aims, hidden), narrow),
        lambda: _findings(facts, account, window, aims, hidden, narrow),
    )
    # For whoever only wants to tell of it without working it out: see `overspend_known`.
    facts.cache.put((*_latest_key(facts, account, window, aims), narrow), found)
    return found


def findings_known(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow = EVERYTHING
) -> Findings | None:
    """The findings of a part of an account where they were worked out since the last load; else null."""
    known: Findings | None = facts.cache.peek((*_latest_key(facts, account, window, aims), narrow))
    return known


def overspend_known(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow = EVERYTHING
) -> int | None:
    """Their overspend, as far as it is known."""
    known = findings_known(facts, account, window, aims, narrow)
    return None if known is None else known.overspend


def _latest_key(facts: Facts, account: Account, window: Window, aims: Aims) -> tuple[object, ...]:
    return ("latest findings", account.id, facts.generation(account.id), window, aims, account.min_clicks)


def _findings_key(
    facts: Facts, account: Account, window: Window, aims: Aims, hidden: Sequence[PutAway]
) -> tuple[object, ...]:
    away = frozenset((each.check, each.row_id) for each in hidden)
    return ("findings", account.id, facts.generation(account.id), window, aims, account.min_clicks, away)


def _findings(
    facts: Facts, account: Account, window: Window, aims: Aims, hidden: tuple[PutAway, ...], narrow: Narrow
) -> Findings:
    def part(rows: pl.DataFrame) -> pl.DataFrame:
        return narrow.part(facts, account, window, rows)

    targets = part(judged_targets(facts, account, window, aims))
    terms = part(judged_terms(facts, account, window, aims))
    ads = part(judged_ads(facts, account, window, aims))
    judged = {
        Subject.TARGET: targets, Subject.TERM: terms,
        Subject.PHRASE: own_words(facts, account, window, aims, narrow),
    }  # fmt: skip
    groups, ignored = [], {subject: set[str]() for subject in judged}
    for check in checks.CHECKS.values():
        found = checks.run(check, judged[check.subject]).rows
        kept, gone = _without(_gathered(check.key, found), check.key, hidden)
        ignored[check.subject] |= set(gone)
        groups.append(_group(check.key, check.title, check.to_do, check.subject, kept))
    promote, _ = _without(
        _gathered(WINNERS, part(winners(facts, account, window, aims))),
        WINNERS, hidden,
    )  # fmt: skip
    for key, rows in products.found(facts, account, window, aims, narrow).items():
        what = products.CHECKS[key]
        kept, _ = _without(rows, key, hidden)
        subject = Subject.CATEGORY if what.of_category else Subject.PRODUCT
        groups.append(_group(key, what.title, what.to_do, subject, kept))
    groups.sort(key=lambda group: group.stake, reverse=True)
    groups.append(
        _group(
            WINNERS, "Search terms that earn a target of their own", "promote to exact", Subject.TERM,
            promote.with_columns(stake=pl.lit(0, pl.Int64)),
        )
    )  # fmt: skip
    total = findings_rules.overspend(
        _unstaked(targets, ignored[Subject.TARGET]), _unstaked(terms, ignored[Subject.TERM]), ads,
        target_frames.term_shares(facts, account.id, window),
        STAKE_DAYS / facts.monthly_days(account.id, facts.held(account.id, window).kind, window),
        _caps(facts, account, window),
    )  # fmt: skip
    return Findings(
        tuple(group for group in groups if len(group.rows)), total.total, int(targets["spend"].sum()),
        int(targets["sales"].sum()), hidden,
    )  # fmt: skip


def _caps(facts: Facts, account: Account, window: Window) -> pl.DataFrame:
    """What each campaign spends a month by the report that totals come from: campaign_id, cap (micro-units)."""
    source = facts.total_source(account.id, [window])
    if source is None:
        return pl.DataFrame(schema={"campaign_id": pl.UInt32, "cap": pl.Int64})
    monthly = STAKE_DAYS / facts.monthly_days(account.id, source, window)
    sums = campaign_frames.campaign_sums(facts, account.id, window, source)
    return sums.select("campaign_id", cap=(pl.col("spend") * monthly).floor().cast(pl.Int64))


def _gathered(key: str, rows: pl.DataFrame) -> pl.DataFrame:
    if key != checks.WITH_ITS_PRODUCT.key or rows.is_empty():
        return rows.with_columns(members=pl.concat_list("row_id"))
    lines = findings_rules.gathered(rows)
    return lines.with_columns(row_id=pl.concat_str("company_level", "company", separator=":").str.head(64))


def _without(rows: pl.DataFrame, check: str, hidden: Sequence[PutAway]) -> tuple[pl.DataFrame, list[str]]:
    """The rows that are not put away, and the ids of the judged rows behind those that are."""
    away = [each.row_id for each in hidden if each.check == check]
    gone = rows.filter(pl.col("row_id").is_in(away))
    return rows.filter(~pl.col("row_id").is_in(away)), gone["members"].explode().drop_nulls().to_list()


def _unstaked(rows: pl.DataFrame, ids: set[str]) -> pl.DataFrame:
    """What somebody has put away is no longer counted as money at stake."""
    return rows.with_columns(
        stake=pl.when(pl.col("row_id").is_in(list(ids))).then(pl.lit(0, pl.Int64)).otherwise("stake")
    )


def _group(key: str, title: str, to_do: str, subject: Subject, rows: pl.DataFrame) -> Group:
    return Group(key, title, to_do, subject, rows, int(rows["stake"].sum()), int(rows["spend"].sum()))


def _still_away(facts: Facts, account: Account, each: PutAway, window: Window, today: date) -> bool:
    if each.until_day is not None:
        return today < each.until_day
    if each.until_clicks is None:
        return True
    if window.last < each.since:
        return True
    since = Window(each.since, window.last)
    term = "-" in each.row_id
    rows = (
        target_frames.term_sums(facts, account.id, since)
        if term
        else target_frames.target_rows(facts, account.id, since)
    )
    named = rows.with_columns((_TERM_ID if term else _TARGET_ID).alias("row_id"))
    return int(named.filter(pl.col("row_id") == each.row_id)["clicks"].sum()) < each.until_clicks


def run(facts: Facts, account: Account, window: Window, aims: Aims) -> Audit:
    """Judges every target and term; NotFound when the window holds nothing."""
    source = facts.held(account.id, window)
    if not source.days:
        raise NotFound(
            f"No report covers {window.first} to {window.last}.",
            place=account.key,
            remedy="Load a target or search term report of these days, or choose other days.",
        )
    return Audit(
        account, window, aims, source,
        judged_targets(facts, account, window, aims), judged_terms(facts, account, window, aims),
        own_words(facts, account, window, aims, EVERYTHING),
    )  # fmt: skip
