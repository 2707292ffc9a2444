"""A look: what is asked about, in one value. Everything in `analysis` takes one and answers for it."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.core import naming, windows
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Part:
    """
    A part of an account; empty means all of it.

    Rows are judged among the whole account first, so a verdict is the same however narrow the part is.
    category: of products; label: one's own, with the products and campaigns that have it (labelled_products,
    labelled_campaigns). name: text in the campaign's name. name_parts: (part, value) of its name by the naming
    pattern; pattern: that pattern, where any is asked for.
    """

    formats: tuple[str, ...] = ()
    portfolio: str = ""
    product: str = ""
    campaign: str = ""
    name: str = ""
    name_parts: tuple[tuple[str, str], ...] = ()
    pattern: str = ""
    category: str = ""
    label: str = ""
    labelled_products: frozenset[str] = frozenset()
    labelled_campaigns: frozenset[str] = frozenset()

    def __bool__(self) -> bool:
        own = (self.formats, self.portfolio, self.product, self.campaign, self.name, self.name_parts)
        return any((*own, self.category, self.label))

    @property
    def products_only(self) -> Part:
        """What of it names products, for rows that know nothing else."""
        return Part(
            product=self.product, category=self.category, label=self.label, labelled_products=self.labelled_products
        )

    @property
    def of_products(self) -> bool:
        """Whether it is told by products: reports that know none cannot answer for it alone."""
        return bool(self.product or self.category or self.label)


EVERYTHING = Part()


DEFAULT_WINDOW: Final = "last-30"
DEFAULT_AGAINST: Final = "preceding"


@dataclass(frozen=True, slots=True)
class Selection:
    """
    An account in a window, by the targets that its rows are judged by.

    against: the days compared with, None where nothing is; part: which part of the account the answer is about.
    """

    account: Account
    window: Window
    aims: Aims
    against: Window | None = None
    part: Part = EVERYTHING

    def at(self, window: Window) -> Selection:
        """The same in other days, compared with nothing."""
        return replace(self, window=window, against=None)

    def against_days(self, against: Window) -> Selection:
        """The same compared with other days."""
        return replace(self, against=against)

    @property
    def whole(self) -> Selection:
        """The same of the whole account."""
        return replace(self, part=EVERYTHING)

    @property
    def judging(self) -> tuple[Hashable, ...]:
        """What the verdicts on the account's rows depend on, besides what is loaded."""
        return self.window, self.aims, self.account.min_clicks, *self.account.waits

    @property
    def products_only(self) -> Selection:
        """The same, narrowed by no more than products: for rows that know nothing else."""
        return replace(self, part=self.part.products_only)

    def within(self, facts: Facts, rows: pl.DataFrame) -> pl.DataFrame:
        """
        The rows that belong to the part; of product ads the product's own.

        rows: format, portfolio, campaign and ad_group_id (else campaign_id), or sku, as far as the part asks for them.
        """
        part = self.part
        if part.formats:
            rows = rows.filter(pl.col("format").cast(pl.String).is_in(part.formats))
        if part.portfolio:
            rows = rows.filter(pl.col("portfolio") == part.portfolio)
        if part.campaign:
            rows = rows.filter(pl.col("campaign") == part.campaign)
        if part.name:
            campaign = pl.col("campaign").cast(pl.String).str.to_lowercase()
            rows = rows.filter(campaign.str.contains(part.name.lower(), literal=True))
        if part.name_parts:
            rows = rows.filter(pl.col("campaign").cast(pl.String).is_in(self._called(rows["campaign"])))
        if part.category:
            catalog = product_frames.catalog(facts, self.account.id)
            skus = catalog.filter(pl.col("category").cast(pl.String) == part.category)["sku"].cast(pl.String)
            rows = rows.filter(self._sells(facts, rows, skus))
        if part.label:
            labelled = self._sells(facts, rows, pl.Series("sku", sorted(part.labelled_products), pl.String))
            if "campaign" in rows.columns and part.labelled_campaigns:
                labelled |= pl.col("campaign").cast(pl.String).is_in(sorted(part.labelled_campaigns))
            rows = rows.filter(labelled)
        if not part.product:
            return rows
        return rows.filter(self._sells(facts, rows, pl.Series("sku", [part.product], pl.String)))

    def _sells(self, facts: Facts, rows: pl.DataFrame, skus: pl.Series) -> pl.Expr:
        """Rows of these products, or of the ad groups (else campaigns) that advertise them."""
        if "sku" in rows.columns:
            return pl.col("sku").cast(pl.String).is_in(skus.implode())
        ads = product_frames.ad_rows(facts, self.account.id, self.window)
        advertised = ads.filter(pl.col("sku").cast(pl.String).is_in(skus.implode()))
        home = "ad_group_id" if "ad_group_id" in rows.columns else "campaign_id"
        return pl.col(home).is_in(advertised[home].unique().implode())

    def _called(self, campaigns: pl.Series) -> list[str]:
        """Those of the names that say what the part asks for."""
        wanted = dict(self.part.name_parts)
        names = campaigns.cast(pl.String).unique().to_list()
        return [
            name for name in names if name is not None and wanted.items() <= called(self.part.pattern, name).items()
        ]


def called(pattern: str, name: str) -> dict[str, str]:
    """The parts of a campaign's name by a pattern; none where it does not fit, or the pattern cannot be read."""
    found = naming.pattern(pattern)
    return (found.read(name) or {}) if found else {}


def usual_window(usual: Window | None) -> str:
    """The default window as text. usual: the span of the newest report total, when that has no daily figures."""
    return f"{usual.first}..{usual.last}" if usual else DEFAULT_WINDOW


def nothing_before(facts: Facts, account: Account, before: Window) -> bool:
    """True where no report holds anything of the days that precede a window: then nothing is compared."""
    return facts.total_source(account.id, [before]) is None


def asked(
    facts: Facts, account: Account, aims: Aims, window: str = "", against: str = DEFAULT_AGAINST
) -> Selection | None:
    """
    The look at all of an account that two texts ask for, as `windows.parse` and `windows.compared` read them; None
    where nothing is loaded. BadInput for a text that says no days.
    """
    newest = facts.newest_day(account.id)
    if newest is None:
        return None
    usual = usual_window(facts.usual_span(account.id, account.maturing_days))
    days = windows.parse(window or usual, newest, account.maturing_days)
    before = windows.compared(against, days, newest, facts.blocks(account.id))
    if against == DEFAULT_AGAINST and before is not None and nothing_before(facts, account, before):
        before = None
    return Selection(account, days, aims, before)
