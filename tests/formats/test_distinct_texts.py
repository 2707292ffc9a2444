"""Texts taken apart from their rows, and put together again."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.formats import distinct_texts as told
from nimbus_reef.formats.distinct_texts import distinct

ROWS = st.lists(
    st.tuples(st.sampled_from(["a", "b", "", None]), st.sampled_from(["x", "x ", None]), st.integers(0, 3)), max_size=12
)
SCHEMA = {"first": pl.String, "second": pl.String, "figure": pl.Int64}


@pytest.fixture(params=["by hash", "by text"])
def road(request, monkeypatch):
    """Where two combinations have one hash, texts themselves are compared."""
    if request.param == "by text":
        monkeypatch.setattr(
            told, "_by_hash", lambda frame: (frame.head(1), pl.Series([0] * len(frame), dtype=pl.UInt32))
        )
    return request.param


def test_apart_and_together_is_the_same(road):
    @given(ROWS)
    def check(rows):
        frame = pl.DataFrame(rows, schema=SCHEMA, orient="row")
        found = distinct(frame, ["first", "second"])
        assert found.whole.select(frame.columns).equals(frame)
        assert len(found.distinct) == len(frame.select("first", "second").unique())
        for name in frame.columns:
            assert found.column(name).to_list() == frame[name].to_list()

    check()


@given(ROWS, st.integers(0, 3))
def test_what_no_row_says_any_more_is_gone(rows, least):
    frame = pl.DataFrame(rows, schema=SCHEMA, orient="row")
    kept = distinct(frame, ["first", "second"])
    kept = kept.filter(kept.rows["figure"] >= least)
    wanted = frame.filter(pl.col("figure") >= least)
    assert kept.whole.select(frame.columns).equals(wanted)
    assert len(kept.distinct) == len(wanted.select("first", "second").unique())


@given(ROWS)
def test_what_reads_alike_has_one_number(rows):
    """Also where texts that were apart read alike once they are trimmed."""
    frame = pl.DataFrame(rows, schema=SCHEMA, orient="row")
    found = distinct(frame, ["first", "second"])
    found = told.DistinctTexts(found.rows, found.distinct.with_columns(pl.col("second").str.strip_chars()))
    numbers, texts = found.same(["second"]).to_list(), found.column("second").to_list()
    for one, first in zip(numbers, texts, strict=True):
        assert [number == one for number in numbers] == [text == first for text in texts]


def test_rows_without_texts_are_of_one_combination():
    found = distinct(pl.DataFrame({"figure": [1, 2]}), [])
    assert found.codes.to_list() == [0, 0]
    assert found.same([]).to_list() == [0, 0]
