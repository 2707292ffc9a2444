"""Sheets that hold rows of several kinds, told apart by a column: which rows are read as what."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final

import polars as pl

from nimbus_reef.formats import mapping, values
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap, Suggestion
from nimbus_reef.formats.raw import RawTable

_CAMPAIGN: Final = ("campaigns", "campaign_daily")
_PRODUCT: Final = ("product_ads", "product_ad_daily")
_TARGET: Final = ("targets", "target_daily")
_NEGATIVE: Final = ("targets",)
_PLACEMENT: Final = ("placement_adjustments", "placement_daily")
_TERM: Final = ("search_term_daily",)
ROW_WORDS: Final[dict[str, tuple[str, ...]]] = {
    "campaign": _CAMPAIGN,
    "kampagne": _CAMPAIGN,
    "campagne": _CAMPAIGN,
    "campaña": _CAMPAIGN,
    "campagna": _CAMPAIGN,
    "ad group": ("ad_groups",),
    "group": ("ad_groups",),
    "anzeigengruppe": ("ad_groups",),
    "groupe d annonces": ("ad_groups",),
    "grupo de anuncios": ("ad_groups",),
    "gruppo di annunci": ("ad_groups",),
    "product": _PRODUCT,
    "product ad": _PRODUCT,
    "ad": _PRODUCT,
    "advertised product": _PRODUCT,
    "produkt": _PRODUCT,
    "produit": _PRODUCT,
    "producto": _PRODUCT,
    "prodotto": _PRODUCT,
    "keyword": _TARGET,
    "target": _TARGET,
    "item target": _TARGET,
    "category target": _TARGET,
    "auto target": _TARGET,
    "product target": _TARGET,
    "schlüsselwort": _TARGET,
    "mot clé": _TARGET,
    "palabra clave": _TARGET,
    "parola chiave": _TARGET,
    "negative": _NEGATIVE,
    "negative keyword": _NEGATIVE,
    "negative target": _NEGATIVE,
    "negative item": _NEGATIVE,
    "campaign negative": _NEGATIVE,
    "campaign negative keyword": _NEGATIVE,
    "negatives schlüsselwort": _NEGATIVE,
    "mot clé négatif": _NEGATIVE,
    "palabra clave negativa": _NEGATIVE,
    "parola chiave negativa": _NEGATIVE,
    "placement": _PLACEMENT,
    "placement adjustment": _PLACEMENT,
    "platzierung": _PLACEMENT,
    "emplacement": _PLACEMENT,
    "ubicación": _PLACEMENT,
    "posizionamento": _PLACEMENT,
    "search term": _TERM,
    "suchbegriff": _TERM,
}
"""What a row may be called, by its letters, and the kinds that it feeds."""
LEFT_OUT: Final = ()
_MOST_WORDS: Final = 20
_KNOWN_SHARE: Final = 0.6
_NEGATED: Final = {"match_type": {"exact": "negative_exact", "phrase": "negative_phrase", "item": "negative_item"}}


def telling_column(table: RawTable) -> str | None:
    """The header whose cells tell what each row is; None where the rows are all of one kind."""
    best: tuple[int, str] | None = None
    for header in table.headers:
        cells = values.letters(values.trimmed(table.frame[header]))
        words = cells.unique()
        if not 1 < len(words) <= _MOST_WORDS:
            continue
        known = [word for word in words.to_list() if word in ROW_WORDS]
        kinds = {ROW_WORDS[word] for word in known}
        # A column of match types or placements has one such word by chance; two kinds are a sign.
        if len(kinds) > 1 and cells.is_in(known).mean() > _KNOWN_SHARE:  # type: ignore[operator]
            score = (len(kinds), header)
            best = max(best, score) if best else score
    return best[1] if best else None


def row_words(table: RawTable, header: str) -> dict[str, tuple[str, ...]]:
    """Each word of the telling column as it stands, with the kinds suggested for it (none where unknown)."""
    words = values.trimmed(table.frame[header]).unique(maintain_order=True)
    plain = values.letters(words)
    return {
        word: ROW_WORDS.get(letters, LEFT_OUT)
        for word, letters in zip(words.to_list(), plain.to_list(), strict=True)
        if word
    }


def suggest(table: RawTable, header: str, chosen: dict[str, tuple[str, ...]]) -> list[Suggestion]:
    """
    A suggestion for every kind that some rows feed, columns found among the cells of those rows alone.

    chosen: word → kinds. Kinds whose figures or settings these rows do not carry are left out.
    """
    feeding: dict[tuple[str, bool], list[str]] = {}
    for word, kinds in chosen.items():
        for kind in kinds:
            feeding.setdefault((kind, "negativ" in word.lower() or "négati" in word.lower()), []).append(word)
    suggestions = [_one(table, header, kind, words, negative) for (kind, negative), words in feeding.items()]
    found = [each for each in suggestions if not each.mapping.lacks()]
    ends = [
        each.mapping.columns[name]
        for name in ("to", "date", "period")
        for each in found
        if name in each.mapping.columns
    ]
    return [each if each.mapping.dated or not ends else _of_the_day(each, ends[0]) for each in found]


def _of_the_day(settings: Suggestion, header: str) -> Suggestion:
    """The same settings, dated by the column that dates the performance rows of the sheet."""
    column_map = settings.mapping
    return replace(settings, mapping=replace(column_map, columns={**column_map.columns, "date": header}))


def suggestion_of(table: RawTable, columns: ColumnMap) -> Suggestion:
    """The suggested columns for the rows that a mapping of a mixed sheet reads."""
    part = rows_of(table, columns.told_by, columns.only)
    texts = tuple(
        name
        for name in table.headers
        if name != columns.told_by and not values.empty(values.trimmed(part.frame[name])).all()
    )
    return mapping.suggest(replace(part, headers=texts), READ_KINDS[columns.kind])


def _one(table: RawTable, header: str, kind: str, words: Sequence[str], negative: bool) -> Suggestion:
    column_map = ColumnMap(kind, {}, sheet=table.sheet, layout=table.chosen_layout, told_by=header, only=tuple(words))
    suggested = suggestion_of(table, column_map)
    columns = dict(suggested.mapping.columns)
    words_of: dict[str, dict[str, str]] = dict(_NEGATED) if negative and kind == "targets" else {}
    if kind == "targets" and "ad_group" not in columns and "ad_group" in suggested.missing:
        # Negatives of whole campaigns alone: their ad group is empty in every row.
        heading = mapping.suggest(table, READ_KINDS[kind]).mapping.columns.get("ad_group")
        if heading is not None and heading not in columns.values():
            columns["ad_group"] = heading
    column_map = replace(column_map, columns=columns, date_order=suggested.mapping.date_order, values=words_of)
    return replace(suggested, mapping=column_map)


def rows_of(table: RawTable, header: str, words: Sequence[str]) -> RawTable:
    """The rows whose telling cell is one of the words."""
    cells = pl.col(header).fill_null("").str.strip_chars()
    return replace(table, frame=table.frame.filter(cells.is_in(list(words))))
