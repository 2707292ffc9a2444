"""A file that holds the rows of several accounts."""

import pytest
from sqlalchemy import text

from nimbus_reef.errors import BadInput
from nimbus_reef.formats import files, mapping
from nimbus_reef.jobs import intake
from nimbus_reef.store.loading import versions
from nimbus_reef.store.people import accounts

HEADER = "account,date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n"


@pytest.fixture
def other(store):
    return accounts.add(
        store,
        key="pell-gb",
        brand_name="Pellwick",
        marketplace="Tidemarkt",
        country="GB",
        currency="GBP",
        locale="en_GB",
        timezone="Europe/London",
        target_acos=0.3,
    )


def load(store, account, tmp_path, names, others):
    path = tmp_path / "both.csv"
    path.write_text(
        HEADER + "".join(f"{name},2026-10-0{n},C,G,t,exact,9,1,1.00,0,0\n" for n, name in enumerate(names, 1))
    )
    chosen = mapping.suggest_kind(files.read_table(path, path.name))[0].mapping
    return intake.load(store, intake.LoadRequest(account, path, path.name, chosen, scope="product", others=others))


def held(store):
    with store.read() as connection:
        return dict(
            tuple(row) for row in connection.execute(text("SELECT account_id, COUNT(*) FROM target_daily GROUP BY 1"))
        )


def test_each_account_gets_its_rows_and_the_nameless_go_to_the_chosen_one(store, account, other, tmp_path):
    names = ["fern-de", "Pellwick GB", "PELL-GB", ""]
    done = load(store, account, tmp_path, names, [account, other])
    assert [(each.account_id, each.rows) for each in done] == [(account.id, 2), (other.id, 2)]
    assert held(store) == {account.id: 2, other.id: 2}


def test_an_account_one_may_not_see_stops_the_whole_file(store, account, other, tmp_path):
    with pytest.raises(BadInput, match="not known to you: pell-gb"):
        load(store, account, tmp_path, ["fern-de", "pell-gb"], [account])
    assert held(store) == {}


def test_a_load_that_fails_on_the_second_account_leaves_the_first_as_it_was(
    store, account, other, tmp_path, monkeypatch
):
    bump = versions.bump

    def cut_off(connection, account_id, *rest, **named):
        if account_id == other.id:
            raise RuntimeError("power cut")
        return bump(connection, account_id, *rest, **named)

    monkeypatch.setattr(versions, "bump", cut_off)
    with pytest.raises(RuntimeError):
        load(store, account, tmp_path, ["fern-de", "pell-gb"], [account, other])
    assert held(store) == {}
