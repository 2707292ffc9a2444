"""Search terms as text: the normal form that groups them, and the words they are made of."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Iterable, Sequence
from functools import lru_cache

import polars as pl

LONGEST_PHRASE = 3
"""Words in the longest n-gram that terms are gathered by."""

_WORD = r"[\p{L}\p{M}\p{N}]+"
_ES_PLURAL = re.compile(r".*(x|ch|sh|ss)es$")


@lru_cache(maxsize=200_000)
def normal_form(term: str) -> str:
    """NFKC, casefolded, spaces collapsed. The form shown stays as it was written."""
    # Casefolding can undo the normal form (ﬀ, ΐ), so it is restored afterwards.
    folded = unicodedata.normalize("NFKC", unicodedata.normalize("NFKC", term).casefold())
    return " ".join(folded.split())


def normal_forms(terms: pl.Series) -> pl.Series:
    """`normal_form` of each; plain ASCII, as most terms are, all at once."""
    plain = terms.str.len_bytes() == terms.str.len_chars()
    folded = terms.str.to_lowercase().str.replace_all(r"[\s\x1c-\x1f]+", " ").str.strip_chars(" ")
    if plain.all():
        return folded
    others = pl.Series([normal_form(term) for term in terms.filter(~plain).to_list()], dtype=pl.String)
    return folded.scatter(plain.not_().arg_true(), others)


def stops(negative: str, term: str, *, phrase: bool) -> bool:
    """
    Whether a negative keeps a search away: an exact one that of the same words, a phrase those that hold its words in
    their order.
    """
    own, other = words(negative), words(term)
    if not phrase:
        return own == other
    return bool(own) and any(other[place : place + len(own)] == own for place in range(len(other) - len(own) + 1))


def singular(word: str) -> str:
    """English plurals of words over 3 letters: -ies→y, -(x|ch|sh|ss)es→, -s unless ss/us/is."""
    if len(word) <= 3 or not word.endswith("s"):
        return word
    if word.endswith("ies"):
        return word[:-3] + "y"
    if _ES_PLURAL.match(word):
        return word[:-2]
    return word if word.endswith(("ss", "us", "is")) else word[:-1]


@lru_cache(maxsize=200_000)
def split(term: str) -> tuple[str, ...]:
    """A term's words as they stand in its normal form: split at what is not a letter, mark or number."""
    # A combining mark belongs to its letter; `\w` alone would split at some of them.
    return tuple("".join(char if unicodedata.category(char)[0] in "LMN" else " " for char in normal_form(term)).split())


@lru_cache(maxsize=200_000)
def words(term: str) -> tuple[str, ...]:
    """The words of a term, plurals undone."""
    return tuple(singular(word) for word in split(term))


def title_core(title: str, left_out: Iterable[str]) -> frozenset[str]:
    """What a product *is*: its title's words less brands, sizes and words with a digit."""
    dropped = {word for phrase in left_out for word in words(phrase)}
    return frozenset(word for word in words(title) if word not in dropped and not any(char.isdigit() for char in word))


_SHORTEST_ID = 6


def item_shape(text: str) -> str:
    """
    How an item's id is built, letters and digits by number: `TM0040117` is `a2d7`. Empty for what is
    no id: words with spaces, without a digit, or short ones.
    """
    plain = normal_form(text)
    if len(plain) < _SHORTEST_ID or not plain.isalnum() or not plain.isascii() or not any(c.isdigit() for c in plain):
        return ""
    runs = re.findall(r"\d+|[a-z]+", plain)
    return "".join(f"{'d' if run[0].isdigit() else 'a'}{len(run)}" for run in runs)


def names_product(term: str, core: frozenset[str]) -> bool:
    """True when every word of the term stands in a product's title core."""
    found = words(term)
    return bool(found) and all(word in core for word in found)


def common_start(titles: Iterable[str], left_out: str = "") -> str:
    """The words that all titles begin with, less a brand's name; empty where they share none."""
    split_up = [title.removeprefix(left_out).split() for title in titles if title]
    shared = []
    for column in zip(*split_up, strict=False):
        if len(set(column)) > 1:
            break
        shared.append(column[0])
    return " ".join(shared).rstrip(",;:-–·(")


def spelt(term: str, phrase: str) -> str | None:
    """A phrase of `by_phrase` as it stands in a term, plurals and all; None where it does not."""
    written = split(term)
    wanted = tuple(phrase.split())
    found = tuple(singular(word) for word in written)
    for start in range(len(found) - len(wanted) + 1):
        if found[start : start + len(wanted)] == wanted:
            return " ".join(written[start : start + len(wanted)])
    return None


def naming(texts: pl.Series, own: Collection[str], rivals: Collection[Sequence[str]]) -> pl.DataFrame:
    """
    Which texts name whom, in their order: own, one of these words stands in it; rival, all words of one of these names
    do.

    Words are compared as `words` gives them.
    """
    asked = [*own, *{word for name in rivals for word in name}]
    rows = (
        pl.DataFrame({"word": spelling(texts)})
        .with_row_index("at")
        .explode("word")
        .filter(pl.col("word").is_in(asked))
        .group_by("at")
        .agg("word")
        .sort("at")
    )
    stems = [set(each) for each in rows["word"].to_list()]
    frame = rows.select(
        "at",
        own=pl.Series([not each.isdisjoint(own) for each in stems], dtype=pl.Boolean),
        rival=pl.Series([any(each.issuperset(name) for name in rivals) for each in stems], dtype=pl.Boolean),
    )
    every = pl.DataFrame({"at": pl.int_range(len(texts), dtype=pl.UInt32, eager=True)})
    return every.join(frame, on="at", how="left", maintain_order="left").select(pl.col("own", "rival").fill_null(False))


def spelling(normal: pl.Series) -> pl.Series:
    """The words of normal forms, plurals undone, in their order: a list of texts each, as `words` gives them."""
    split_up = normal.to_frame("text").with_row_index("at").with_columns(word=pl.col("text").str.extract_all(_WORD))
    tokens = split_up.select("at", "word").explode("word").drop_nulls("word")
    stems = tokens.select(pl.col("word").unique(maintain_order=True))
    stems = stems.with_columns(stem=pl.col("word").map_elements(singular, return_dtype=pl.String))
    lists = tokens.join(stems, on="word", maintain_order="left").group_by("at", maintain_order=True).agg("stem")
    return split_up.select("at").join(lists, on="at", how="left", maintain_order="left")["stem"].fill_null([])


def by_phrase(
    terms: pl.DataFrame, spelt_by: pl.DataFrame, vocabulary: pl.DataFrame, measures: Sequence[str]
) -> pl.DataFrame:
    """
    What terms come to by the words they share: n-grams, n = 1 … 3 ("Search terms").

    terms: normal_id, term, orders and the measures, one row per place that paid for a
    term. spelt_by: normal_id, word_id, a term's words one under the other in their order; vocabulary: word_id, word.
    One row per phrase that stands in two terms or more: phrase (plurals undone),
    length (in words), terms, example (the dearest of
    them, of equally dear ones the first by name), idle_terms (without an order), idle_spend (theirs) and the measures
    of every row that contains it, each once. Rows overlap: their sums are not the account's.
    """
    of_term = (
        terms.group_by("normal_id")
        .agg(pl.col("term").first(), pl.col(measures).sum())
        .sort(["spend", "term"], descending=[True, False])
        .with_row_index("place")
    )
    tokens = spelt_by.join(of_term.select("normal_id"), on="normal_id", how="semi", maintain_order="left")
    numbered = (
        vocabulary.join(tokens.select(pl.col("word_id").unique()), on="word_id", how="semi")
        .sort("word")
        .with_row_index("code")
    )
    codes = numbered.select("word_id", pl.col("code").cast(pl.Int64) + 1)
    runs = tokens.join(codes, on="word_id", maintain_order="left").select("normal_id", "code")
    idle, base = pl.col("orders") == 0, len(numbered) + 1
    rows = (
        _runs(runs, base)
        .join(of_term, on="normal_id")
        .group_by("key", "length")
        .agg(
            example=pl.col("term").get(pl.col("place").arg_min()),
            terms=pl.len().cast(pl.Int64),
            idle_terms=idle.sum().cast(pl.Int64),
            idle_spend=pl.col("spend").filter(idle).sum(),
            **{name: pl.col(name).sum() for name in measures},
        )
        .filter(pl.col("terms") > 1)
    )
    stem_of = pl.concat([pl.Series([""]), numbered["word"]])
    text = [stem_of.gather(rows["key"] // base**step % base) for step in range(LONGEST_PHRASE)]
    return rows.with_columns(phrase=pl.concat_str(text, separator=" ").str.strip_chars_end()).drop("key").sort("phrase")


def _runs(words_of: pl.DataFrame, base: int) -> pl.DataFrame:
    """normal_id, key, length: every run of 1 … 3 words of a term, once. A key is its codes, first lowest."""
    same = [pl.col("normal_id").shift(-step) == pl.col("normal_id") for step in range(LONGEST_PHRASE)]
    found = []
    for n in range(1, LONGEST_PHRASE + 1):
        key = pl.sum_horizontal(pl.col("code").shift(-step) * base**step for step in range(n))
        run = words_of.select("normal_id", key=pl.when(same[n - 1]).then(key)).drop_nulls("key")
        found.append(run.unique().with_columns(length=pl.lit(n, pl.Int64)))
    return pl.concat(found)
