"""The query string, parsed once into a typed scope: what is looked at, and how."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import date
from difflib import get_close_matches
from typing import Any, Final
from urllib.parse import urlencode

from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.selection import (
    DEFAULT_AGAINST,
    DEFAULT_WINDOW,
    Part,
    Selection,
    nothing_before,
    usual_window,
)
from nimbus_reef.core import windows
from nimbus_reef.core.model import Format
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.typed import number, whole
from nimbus_reef.store.people import labels
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.labels import Labels
from nimbus_reef.store.reading.facts import Facts

JUDGES = ("evidence", "simple")
OWN_OF_A_TABLE: dict[str, Any] = {
    "where": (),
    "query": "",
    "sort": "",
    "cols": "",
    "page": 1,
    "open": "",
    "judge": "evidence",
    "own": (),
}
"""What one table's address holds that means nothing to another."""


OWN_OF_A_PAGE = (
    "by",
    "rival",
    "one",
    "other",
    "annex",
    "metric",
    "least",
    "show",
    "smooth",
    "whose",
    "only",
    "segments",
    "total",
    "bid",
    "budget",
    "without",
    "pattern",
    "weekday",
    "what",
    "percent",
    "days",
    "from_hour",
    "to_hour",
    "first",
    "last",
    "event",
    "condition",
    "which",
    "day",
    "fixed",
    "at",
    "cpc",
    "cvr",
    "aov",
    "visits",
    "anyway",
    "until",
)
"""Choices that a page may offer besides: kept in its address, left behind by links to other pages."""


_FIELD_OF: Final = {
    "portfolio": "portfolio",
    "category": "category",
    "label": "label",
    "product": "product",
    "campaign": "campaign",
    "holds": "name",
    "q": "query",
    "sort": "sort",
    "open": "open",
}
"""Fields of a scope by their names in an address."""


@dataclass(frozen=True, slots=True)
class Scope:
    """
    What a page looks at. Everything but what is held is in the URL; defaults are
    left out of it, so that a link stays short and keeps meaning the same.

    name_parts: what campaigns are called in parts of their names, as (part, value).
    usual: the days that are looked at by default where the newest figures of a report are a sum,
    and usual_loaded, when that was loaded;
    blocks: all such sums held; nothing_before: no figures are held of what precedes the window.
    """

    account: Account
    newest: date | None
    own_aims: Aims | None = None
    usual: Window | None = None
    usual_loaded: date | None = None
    blocks: tuple[Window, ...] = ()
    nothing_before: bool = False
    window_text: str = DEFAULT_WINDOW
    against_text: str = DEFAULT_AGAINST
    target_acos_text: str = ""
    formats: tuple[str, ...] = ()
    portfolio: str = ""
    category: str = ""
    label: str = ""
    labels: Labels | None = None
    product: str = ""
    campaign: str = ""
    name: str = ""
    name_parts: tuple[tuple[str, str], ...] = ()
    judge: str = "evidence"
    where: tuple[str, ...] = ()
    query: str = ""
    sort: str = ""
    cols: str = ""
    page: int = 1
    open: str = ""
    own: tuple[tuple[str, str], ...] = ()

    def choice(self, name: str, offered: Sequence[str]) -> str:
        """One of a page's own choices, the first where none is made; BadInput for what is none of them."""
        text = dict(self.own).get(name, "") or offered[0]
        if text not in offered:
            raise BadInput(f"“{text}” is not a choice for {name}.", remedy=f"Use {', '.join(offered)}.")
        return text

    def own_value(self, name: str) -> str:
        """A page's own value, empty where none is given."""
        return dict(self.own).get(name, "")

    def choose(self, path: str, **own: str) -> str:
        """The address of a path with some of the page's own choices changed, from its first page."""
        kept = {**dict(self.own), **own}
        return self.link(path, own=tuple((name, value) for name, value in kept.items() if value), page=1)

    @property
    def window(self) -> Window:
        """The days looked at."""
        newest = self.newest or date(2000, 1, 30)
        return windows.parse(self.window_text, newest, self.account.maturing_days)

    @property
    def against(self) -> Window | None:
        """The days compared with; None where nothing is, or nothing is held of them."""
        if self.nothing_before and self.against_text == DEFAULT_AGAINST:
            return None
        return self.asked_against

    @property
    def asked_against(self) -> Window | None:
        """The days that are to be compared with, be they held or not."""
        return windows.compared(self.against_text, self.window, self.newest or date(2000, 1, 30), self.blocks)

    @property
    def default_window(self) -> str:
        """The days looked at when none are chosen."""
        return usual_window(self.usual)

    @property
    def assumes_target(self) -> bool:
        """True when the account has no target yet and none is tried."""
        return not self.account.target_set and not self.target_acos_text

    @property
    def target_acos(self) -> float:
        """The target in force, as a fraction: the account's own unless tried otherwise here."""
        if not self.target_acos_text:
            return self.account.target_acos
        percent = number(self.target_acos_text, self.account.locale)
        if percent is None or not 0 < percent <= 500:
            raise BadInput(
                f"“{self.target_acos_text}” is not a valid target ACOS.", remedy="Enter a percentage such as 28."
            )
        return float(percent) / 100

    @property
    def aims(self) -> Aims:
        """The targets that rows are judged by: all those set, or the one that is tried here."""
        if self.target_acos_text or self.own_aims is None:
            return Aims(self.target_acos)
        return self.own_aims

    @property
    def selection(self) -> Selection:
        """What is asked about: the account, the days, the targets, the part of it."""
        part = Part(
            self.formats,
            self.portfolio,
            self.product,
            self.campaign,
            self.name,
            self.name_parts,
            self.account.naming if self.name_parts else "",
            self.category,
            self.label,
            *(self.labels or Labels()).with_label(self.label),
        )
        return Selection(self.account, self.window, self.aims, self.against, part)

    @property
    def maturing(self) -> int:
        """How many days of the window still gain sales."""
        if self.newest is None:
            return 0
        return windows.maturing(self.window, self.newest, self.account.maturing_days, self.usual_loaded)

    @property
    def part(self) -> str:
        """The part of the account that is looked at, as a query string; empty for all of it."""
        pairs = [("format", each) for each in sorted(self.formats)]
        pairs += [
            (name, value)
            for name, value in (
                ("portfolio", self.portfolio),
                ("category", self.category),
                ("label", self.label),
                ("product", self.product),
                ("campaign", self.campaign),
                ("holds", self.name),
            )
            if value
        ]
        pairs += [("said", f"{part}:{value}") for part, value in self.name_parts]
        return urlencode(pairs)

    @property
    def part_words(self) -> str:
        """The part of the account that is looked at, in words."""
        texts = [f"format {each}" for each in sorted(self.formats)]
        named = (
            ("portfolio", self.portfolio),
            ("category", self.category),
            ("label", self.label),
            ("product", self.product),
            ("campaign", self.campaign),
            ("names with", self.name),
            *self.name_parts,
        )
        texts += [f"{name} “{value}”" for name, value in named if value]
        return ", ".join(texts) or "whole account"

    def values(self) -> list[tuple[str, str]]:
        """The query string as pairs, defaults left out."""
        pairs = [("account", self.account.key)]
        optional = (
            ("window", self.window_text, self.default_window),
            ("against", self.against_text, DEFAULT_AGAINST),
            ("target_acos", self.target_acos_text, ""),
            ("portfolio", self.portfolio, ""),
            ("category", self.category, ""),
            ("label", self.label, ""),
            ("product", self.product, ""),
            ("campaign", self.campaign, ""),
            ("holds", self.name, ""),
            ("judge", self.judge, "evidence"),
            ("q", self.query, ""),
            ("sort", self.sort, ""),
            ("cols", self.cols, ""),
            ("page", str(self.page), "1"),
            ("open", self.open, ""),
        )
        pairs += [("format", each) for each in self.formats]
        pairs += [("said", f"{part}:{value}") for part, value in self.name_parts]
        pairs += [("where", each) for each in self.where]
        pairs += self.own
        return pairs + [(name, value) for name, value, default in optional if value != default]

    @property
    def address(self) -> str:
        """The query string without the account, as it is kept to look the same way again."""
        return urlencode([(name, value) for name, value in self.values() if name != "account"])

    def lasting(self) -> list[tuple[str, str]]:
        """The query string as pairs, without what is one table's or page's own."""
        return replace(self, **OWN_OF_A_TABLE).values()

    def link(self, path: str, **changes: Any) -> str:
        """The address of a path in this scope, with some of it changed."""
        return f"{path}?{urlencode(replace(self, **changes).values())}"

    def of(self, path: str, account: Account) -> str:
        """
        The address of a path for another account: the same days, and the same judging; parts and targets are the
        other's own.
        """
        kept = {"window": self.window_text, "against": self.against_text, "judge": self.judge}
        usual = {"window": self.default_window, "against": DEFAULT_AGAINST, "judge": "evidence"}
        chosen = [(name, text) for name, text in kept.items() if text != usual[name]]
        return f"{path}?{urlencode([('account', account.key), *chosen])}"

    def elsewhere(self, path: str, **there: str) -> str:
        """
        The address of another area: the same account, days and target, none of the table. there: what it shows there,
        by the name in the
        address: a part of the account in place of this one's, an open row, a choice of that page.
        """
        fields = {_FIELD_OF[name]: value for name, value in there.items() if name in _FIELD_OF}
        own = tuple((name, value) for name, value in there.items() if name not in _FIELD_OF and name != "said")
        scope = replace(self, **{**OWN_OF_A_TABLE, **fields, "own": own})
        if "said" in there:
            scope = replace(scope, name_parts=_name_parts(MultiDict({"said": there["said"]})))
        return f"{path}?{urlencode(scope.values())}"


KNOWN: Final = frozenset(
    {
        *("account", "window", "month", "from", "to", "against", "against_from", "against_to", "target_acos"),
        *("format", "portfolio", "category", "label", "product", "campaign", "holds", "said"),
        *("judge", "where", "limited", "compared", "comparison", "value", "q", "sort", "cols", "page", "open"),
        *OWN_OF_A_PAGE,
    }
)
"""What an address of an audit page may hold."""


def refuse_unknown(args: MultiDict[str, str], besides: Collection[str] = ()) -> None:
    """BadInput for a parameter that says nothing here, with what may have been meant. besides: the page's own."""
    known = KNOWN | set(besides)
    for name in args:
        if name not in known:
            near = get_close_matches(name, sorted(known), 1)
            meant = f"Did you mean “{near[0]}”?" if near else "Remove it from the address."
            raise BadInput(f"“{name[:40]}” is not part of an address here.", remedy=meant)


def of_account(args: MultiDict[str, str], account: Account, facts: Facts, aims: Aims | None = None) -> Scope:
    """The scope of a request on what an account holds; BadInput names the part that cannot be understood."""
    entries = (
        facts.newest_day(account.id),
        facts.usual_span(account.id, account.maturing_days),
        facts.blocks(account.id),
    )
    found = parse(args, account, entries[0], aims, usual=entries[1], blocks=entries[2])
    if found.label:
        found = replace(found, labels=labels.of_account(facts.store, account.id))
    found = replace(found, usual_loaded=facts.block_loaded(account.id, entries[1], account.timezone))
    before = found.asked_against if found.against_text == DEFAULT_AGAINST else None
    if found.newest is None or before is None:
        return found
    return replace(found, nothing_before=nothing_before(facts, account, before))


def parse(
    args: MultiDict[str, str],
    account: Account,
    newest: date | None,
    aims: Aims | None = None,
    *,
    usual: Window | None = None,
    blocks: tuple[Window, ...] = (),
) -> Scope:
    """The scope of a request; BadInput names the part that cannot be understood."""
    judge = args.get("judge", "evidence")
    if judge not in JUDGES:
        raise BadInput(f"“{judge}” is not a way to judge.", remedy="Use evidence or simple.")
    formats = tuple(dict.fromkeys(each for each in args.getlist("format") if each))
    if not set(formats) <= set(Format):
        raise BadInput(f"“{', '.join(formats)}” is not an ad format.", remedy=f"Use {', '.join(Format)}.")
    scope = Scope(
        account=account,
        newest=newest,
        own_aims=aims,
        usual=usual,
        blocks=blocks,
        window_text=_window_text(args) or usual_window(usual),
        against_text=_against_text(args),
        target_acos_text=args.get("target_acos", "").strip(),
        formats=formats,
        portfolio=args.get("portfolio", ""),
        category=args.get("category", "").strip(),
        label=args.get("label", "").strip(),
        product=args.get("product", "").strip(),
        campaign=args.get("campaign", ""),
        name=args.get("holds", "").strip(),
        name_parts=_name_parts(args),
        judge=judge,
        where=(
            *(each for each in args.getlist("where") if each),
            *_added_filter(args, account.locale),
            *(f"limited:is:{each}" for each in args.getlist("limited") if each in ("yes", "no")),
        ),
        query=args.get("q", "").strip(),
        sort=args.get("sort", ""),
        cols=",".join(each for each in args.getlist("cols") if each),
        page=max(1, args.get("page", 1, type=whole)),
        open=args.get("open", ""),
        own=tuple((name, args[name].strip()) for name in OWN_OF_A_PAGE if args.get(name, "").strip()),
    )
    # Reading them now turns a bad part into an error of this request, whoever uses it later.
    _ = scope.window, scope.against, scope.target_acos
    return scope


def _name_parts(args: MultiDict[str, str]) -> tuple[tuple[str, str], ...]:
    """`said=part:value` for each part of a campaign's name that is asked for, one of each."""
    found = {}
    for each in args.getlist("said"):
        part, sign, value = each.partition(":")
        if sign and part and value:
            found[part] = value
    return tuple(sorted(found.items()))


def _added_filter(args: MultiDict[str, str], locale: str) -> tuple[str, ...]:
    """A filter that is typed into the form's three fields, its figure read as the account writes them."""
    field, sign, typed = (args.get(name, "").strip() for name in ("compared", "comparison", "value"))
    if not field:
        return ()
    figure = number(typed, locale)
    return (f"{field}:{sign}:{typed if figure is None else f'{figure:f}'}",)


def _window_text(args: MultiDict[str, str]) -> str:
    """`window`, or a month, or the two ends of a range, as the form's fields give them."""
    if args.get("from") and args.get("to"):
        return f"{args['from']}..{args['to']}"
    return args.get("month", "") or args.get("window", "")


def _against_text(args: MultiDict[str, str]) -> str:
    if args.get("against_from") and args.get("against_to"):
        return f"{args['against_from']}..{args['against_to']}"
    return args.get("against", "") or DEFAULT_AGAINST
