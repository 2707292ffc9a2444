"""Terms by position: what a join of their names would say."""

import polars as pl
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from nimbus_reef.store.reading.term_places import term_places


class Kept:
    """Facts that keep nothing."""

    def kept(self, _, __, make):
        return make()


ROWS = st.lists(st.tuples(st.integers(1, 4), st.integers(1, 3)), max_size=12)
IDS = {"target_term_id": pl.UInt32, "target_id": pl.UInt32, "normal_id": pl.UInt32, "ad_group_id": pl.UInt32}


@given(ROWS, st.sets(st.integers(1, 30), max_size=20), st.randoms())
def test_positions_say_what_joins_say(rows, asked, random):
    """Ids with gaps, in any order, some of no known term."""
    names = pl.DataFrame(
        [(2 * number + 1, target, normal) for number, (target, normal) in enumerate(rows)],
        schema={name: IDS[name] for name in ("target_term_id", "target_id", "normal_id")},
        orient="row",
    )
    targets = pl.DataFrame({"target_id": [1, 2, 3, 4], "ad_group_id": [7, 7, 8, 9]}, schema_overrides=IDS)
    ids = sorted(asked)
    random.shuffle(ids)
    sums = pl.DataFrame(
        {"target_term_id": ids, "spend": [10 * each for each in ids]},
        schema={"target_term_id": pl.UInt32, "spend": pl.Int64},
    )
    where = term_places(Kept(), 1, names, targets)
    placed = where.placed(sums, "target_id", "ad_group_id", "normal_id", "pair", "place")
    joined = sums.join(names, on="target_term_id", maintain_order="left").join(
        targets, on="target_id", maintain_order="left"
    )
    columns = ["target_term_id", "spend", "target_id", "ad_group_id", "normal_id"]
    assert_frame_equal(placed.select(columns), joined.select(columns))
    assert names["target_term_id"].gather(placed["place"]).to_list() == placed["target_term_id"].to_list()
    alone, several = where.distinct(placed)
    assert alone["pair"].is_unique().all()
    assert not set(alone["pair"]) & set(several["pair"])
    assert len(alone) + len(several) == len(placed)
    by_pair = where.named(placed.group_by("pair").agg(pl.col("spend").sum()))
    keys = ["ad_group_id", "normal_id"]
    assert_frame_equal(by_pair.sort(keys), joined.group_by(keys).agg(pl.col("spend").sum()).sort(keys))
