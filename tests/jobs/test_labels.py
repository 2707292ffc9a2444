"""Whose rows a file replaces when nobody says which ad format it holds; names that look alike; negatives."""

import os
import time
from dataclasses import replace
from datetime import date

import pytest
from sqlalchemy import text

from nimbus_reef import config
from nimbus_reef.errors import NeedsYes
from nimbus_reef.jobs import intake, queue
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

TODAY = date(2026, 10, 20)
DAILY = "date,campaign,impressions,clicks,spend,orders,sales\n"
SETTINGS = "date,campaign,format,targeting,state,daily_budget\n"


def put(store, account, tmp_path, name, content, kind=None, **options):
    path = tmp_path / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    looked = intake.inspect(store, account, path, name)
    return intake.load(
        store,
        intake.LoadRequest(
            account,
            path,
            name,
            intake.usual_maps(looked, kind),
            scope=options.pop("scope", None),
            usual=looked.scope,
            today=TODAY,
            **options,
        ),
    )


def days_of(campaign, *days):
    return DAILY + "".join(f"2026-10-{day:02},{campaign},9,3,1.50,1,9\n" for day in days)


def held(store):
    with store.read() as connection:
        rows = connection.execute(
            text("SELECT c.name, COUNT(*) FROM campaign_daily f JOIN campaign c ON c.id = f.campaign_id GROUP BY 1")
        )
        return dict(tuple(row) for row in rows)


def test_a_brand_file_never_wipes_the_product_ads_of_its_days(store, account, tmp_path):
    """With the campaigns' formats known the file finds its own label, whatever was loaded before it."""
    put(
        store,
        account,
        tmp_path,
        "settings.csv",
        SETTINGS + "2026-10-01,P,product,manual,enabled,9\n2026-10-01,B,brand,manual,enabled,9\n",
        scope="all",
    )
    (first,) = put(store, account, tmp_path, "p.csv", days_of("P", 1, 2))
    (second,) = put(store, account, tmp_path, "b.csv", days_of("B", 1, 2))
    assert (first.scope, second.scope, second.removed) == ("product", "brand", 0)
    assert held(store) == {"P": 2, "B": 2}


def test_without_known_formats_the_loss_of_other_campaigns_is_asked_and_a_label_answers(store, account, tmp_path):
    put(store, account, tmp_path, "p.csv", days_of("P", 1, 2))
    with pytest.raises(NeedsYes) as asked:
        put(store, account, tmp_path, "b.csv", days_of("B", 1, 2))
    assert "“P”" in asked.value.questions[0]
    assert "--scope" in asked.value.questions[0]
    assert held(store) == {"P": 2}
    put(store, account, tmp_path, "b.csv", days_of("B", 1, 2), scope="brand", confirmed=True)
    assert held(store) == {"P": 2, "B": 2}


def test_the_watched_folder_puts_such_a_file_aside_for_an_answer(store, account, tmp_path):
    conf = config.load({"REEF_VAR": str(tmp_path / "var")})
    made = queue.make_queue(conf, store, immediate=True)
    put(store, account, tmp_path, "p.csv", days_of("P", 1, 2))
    folder = conf.inbox / account.key
    folder.mkdir(parents=True)
    file = folder / "b.csv"
    file.write_text(days_of("B", 1, 2))
    os.utime(file, (time.time() - 60, time.time() - 60))
    queue.sweep_inbox(conf, store, made.start)
    (job, _), *_ = loads.recent_jobs(store, account.id)
    assert job.state == "asks"
    assert held(store) == {"P": 2}


def test_names_with_and_without_an_apostrophe_stay_two_campaigns(store, account, tmp_path):
    content = DAILY.replace("spend", "Cost") + "2026-10-01,'=x,9,3,1,0,0\n2026-10-01,=x,9,3,1,0,0\n"
    put(store, account, tmp_path, "x.csv", content, "campaign_daily")
    assert held(store) == {"'=x": 1, "=x": 1}


def test_negatives_of_whole_campaigns_are_settings_like_any_other(store, account, tmp_path):
    head = "date,campaign,ad_group,target,match_type,state,bid\n"
    rows = "".join(f"2026-10-01,C,G,t{n},exact,enabled,0.5\n" for n in range(30))
    whole = "2026-10-01,C,,free,negative_exact,enabled,\n"
    (loaded,) = put(store, account, tmp_path, "t.csv", head + rows + whole, "targets")
    assert (loaded.rows, loaded.rejected) == (31, 0)
    (loaded,) = put(
        store,
        account,
        tmp_path,
        "u.csv",
        head + rows + "2026-10-02,C,,lamp,exact,enabled,\n",
        "targets",
        confirmed=True,
    )
    assert loaded.rejected == 1, "a target needs its ad group"


def test_campaign_daily_alone_gives_totals_and_days(store, account, tmp_path):
    put(store, account, tmp_path, "c.csv", days_of("C", 1, 2, 3))
    facts = Facts(store)
    assert facts.newest_day(account.id) == date(2026, 10, 3)


@pytest.mark.parametrize(("matures_in", "told"), [(3, False), (14, True)])
def test_a_sum_loaded_before_its_account_s_days_have_matured_says_so(store, account, tmp_path, matures_in, told):
    """Ten days after the last of them, by what the account itself says of its sales."""
    content = "from,to,campaign,impressions,clicks,spend,orders,sales\n2026-09-11,2026-10-10,P,9,3,1.50,1,9\n"
    of_its_own = replace(account, maturing_days=matures_in)
    (done,) = put(store, of_its_own, tmp_path, "sum.csv", content, "campaign_daily", scope="all")
    assert any("may still come" in each for each in done.warnings) is told
