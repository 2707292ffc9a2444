"""Gaps to rivals: where we stand, whether the title lacks words, and what comes first."""

import polars as pl
import pytest

from nimbus_reef.core.rank_gaps import BattleLimits, Fight, Gap, Title, fight, gap, titled


@pytest.mark.parametrize(
    ("own", "theirs", "found"),
    [
        (3, 1, Gap.HELD),
        (10, 1, Gap.HELD),
        (11, 10, Gap.NEAR),
        (19, 10, Gap.NEAR),
        (20, 10, Gap.BEHIND),
        (None, 10, Gap.ABSENT),
        (None, 11, Gap.OPEN),
        (60, None, Gap.OPEN),
    ],
)
def test_where_we_stand_by_our_rank_and_the_best_rival_s(own, theirs, found):
    """Held from rank 10 on, behind from 20 on, a fight only where a rival holds 10."""
    rows = pl.DataFrame(
        {"own_rank": [own], "best_rival": [theirs]}, schema={"own_rank": pl.Int64, "best_rival": pl.Int64}
    )
    assert rows.select(gap()).item() == found.value


def test_limits_are_one_s_own():
    rows = pl.DataFrame({"own_rank": [12], "best_rival": [14]})
    assert rows.select(gap(BattleLimits(held=5, behind=12, rivals=15))).item() == Gap.BEHIND.value


@pytest.mark.parametrize(
    ("stands", "missing", "bought", "would_pay", "found"),
    [
        (Gap.HELD, "tray", False, True, Fight.LEAVE),
        (Gap.OPEN, "", False, True, Fight.LEAVE),
        (Gap.ABSENT, "tray", False, True, Fight.BOTH),
        (Gap.BEHIND, "tray", True, False, Fight.LISTING),
        (Gap.BEHIND, "", False, True, Fight.KEYWORD),
        (Gap.NEAR, "", True, False, Fight.BOUGHT),
        (Gap.NEAR, "", False, False, Fight.LEAVE),
    ],
)
def test_the_listing_comes_first_where_words_are_missing_and_ads_where_they_pay(
    stands, missing, bought, would_pay, found
):
    rows = pl.DataFrame({"gap": [stands.value], "missing": [missing], "bought": [bought], "would_pay": [would_pay]})
    assert rows.select(fight()).item() == found.value


@pytest.mark.parametrize(
    ("phrase", "title", "found"),
    [
        ("seed tray", "wooden seed tray with lid", (Title.EXACT, "")),
        ("tray seed", "wooden seed tray with lid", (Title.SCATTERED, "")),
        ("seed tray light", "wooden seed tray with lid", (Title.PART, "light")),
        ("grow lamp", "wooden seed tray with lid", (Title.NONE, "grow lamp")),
    ],
)
def test_how_a_phrase_stands_in_a_title(phrase, title, found):
    assert titled(phrase.split(), title.split()) == found
