"""What the product report does not hold is a row of its own, so that the rows sum to the account."""

from datetime import date, timedelta

import pytest
from tests.jobs.test_labels import put

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading.facts import Facts

THEN, NOW = Window(date(2026, 9, 1), date(2026, 9, 5)), Window(date(2026, 9, 6), date(2026, 9, 10))


@pytest.mark.parametrize("of_ads", [7, 13])
def test_rows_of_products_sum_to_the_account_more_or_less_than_the_product_report(store, account, tmp_path, of_ads):
    days = [THEN.first + timedelta(days=n) for n in range(10)]
    whole = [f"{day},P,900,50,10,2,40" for day in days]
    ads = [f"{day},P,A,SKU-1,900,50,{of_ads},2,40" for day in days]
    measures = "impressions,clicks,spend,orders,sales"
    put(
        store,
        account,
        tmp_path,
        "c.csv",
        "\n".join([f"date,campaign,{measures}", *whole]),
        "campaign_daily",
        scope="all",
    )
    put(
        store,
        account,
        tmp_path,
        "a.csv",
        "\n".join([f"date,campaign,ad_group,sku,{measures}", *ads]),
        "product_ad_daily",
        scope="all",
    )
    sides = movement.sides(Facts(store), Selection(account, NOW, Aims(0.3), THEN), "product")
    assert dict(sides.select("key", "spend1").rows()) == {"SKU-1": 5 * of_ads, movement.REST: 5 * (10 - of_ads)}
    assert (sides["spend0"].sum(), sides["spend1"].sum()) == (50, 50)
