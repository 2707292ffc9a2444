"""A plan counts the same money once over the views of a campaign: targets and terms, product ads, placements."""

from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.plan import Cut, MoneyView, counted_elsewhere


def cuts(*rows):
    """campaign, ad group, view, spend; numbered from 1."""
    return [Cut(number, *row) for number, row in enumerate(rows, 1)]


def test_an_ad_group_counts_its_targets_or_its_ads_whichever_are_larger():
    both = cuts(
        ("c", "g", MoneyView.TARGETS, 30.0), ("c", "g", MoneyView.TARGETS, 30.0), ("c", "g", MoneyView.ADS, 50.0)
    )
    assert counted_elsewhere(both) == {3}
    assert counted_elsewhere([*both, Cut(4, "c", "g", MoneyView.ADS, 20.0)]) == {1, 2}
    other = Cut(5, "c", "h", MoneyView.ADS, 5.0)
    assert counted_elsewhere([*both, other]) == {3}, "another ad group is other money"


def test_a_campaign_counts_its_ad_groups_together_or_its_placements():
    rows = cuts(
        ("c", "g", MoneyView.TARGETS, 30.0),
        ("c", "h", MoneyView.ADS, 30.0),
        ("c", "", MoneyView.PLACEMENTS, 50.0),
        ("d", "", MoneyView.PLACEMENTS, 9.0),
    )
    assert counted_elsewhere(rows) == {3}
    assert counted_elsewhere([*rows, Cut(5, "c", "", MoneyView.PLACEMENTS, 11.0)]) == {1, 2}
    assert counted_elsewhere([]) == frozenset()


@given(
    st.lists(
        st.tuples(st.sampled_from("cd"), st.sampled_from("gh"), st.sampled_from(MoneyView), st.integers(1, 90)),
        max_size=14,
    )
)
def test_what_counts_is_the_largest_view_and_no_order_changes_it(rows):
    made = cuts(*rows)
    gone = counted_elsewhere(made)
    assert counted_elsewhere(made[::-1]) == gone
    for campaign in "cd":
        own = [cut for cut in made if cut.campaign == campaign]
        counted = sum(cut.spend for cut in own if cut.number not in gone)
        placed = sum(cut.spend for cut in own if cut.view is MoneyView.PLACEMENTS)
        groups = sum(
            max(
                sum(cut.spend for cut in own if (cut.ad_group, cut.view) == (group, view))
                for view in (MoneyView.ADS, MoneyView.TARGETS)
            )
            for group in "gh"
        )
        assert counted == max(placed, groups)
