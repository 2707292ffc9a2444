"""Forms: figures as the account writes them, and one way of saying what is wrong."""

import pytest
from werkzeug.datastructures import MultiDict

from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.errors import BadInput
from nimbus_reef.web.bar.forms import AimForm
from nimbus_reef.web.plan.forms import ValueForm
from nimbus_reef.web.standing.forms import PeersForm

PEERS = {
    "peers_of": "2026-11",
    "peer_category": "Grow lights",
    "metric": "cvr",
    "p20": "1,5",
    "p50": "2",
    "p80": "4,25",
    "brands": "44",
}


@pytest.mark.parametrize(
    ("typed", "locale", "target"), [("28,5", "de_DE", 0.285), ("28.5", "de_DE", 0.285), ("", "de_DE", None)]
)
def test_a_target_is_read_as_the_account_writes_it_and_taken_back_by_nothing(typed, locale, target):
    assert AimForm(MultiDict({"percent": typed}), locale).checked().value == target


@pytest.mark.parametrize(("what", "typed", "value"), [("ceiling", "0,80", 0.8), ("step_down", "10", 0.1)])
def test_a_limit_is_an_amount_or_a_share(what, typed, value):
    assert AimForm(MultiDict({"percent": typed, "what": what}), "de_DE").checked().value == value


def test_what_is_no_figure_is_said_with_its_field_and_how_to_write_it():
    with pytest.raises(BadInput) as problem:
        AimForm(MultiDict({"percent": "dear"}), "de_DE").checked()
    assert str(problem.value) == "target or limit: “dear” is not a number. Enter a number such as 28 or 0.80."


def test_peer_figures_rise_and_come_from_brands_enough():
    assert PeersForm(MultiDict(PEERS), "de_DE").checked().marks == [1.5, 2.0, 4.25]
    for wrong, words in (
        ({"p80": "1"}, "from lowest to highest"),
        ({"brands": "many"}, "Not a valid integer"),
        ({"metric": "x"}, "Not a valid choice"),
    ):
        with pytest.raises(BadInput) as problem:
            PeersForm(MultiDict(PEERS | wrong), "de_DE").checked()
        assert words in str(problem.value)


@pytest.mark.parametrize(
    ("entity", "field", "typed", "value"),
    [
        (Entity.TARGET, "bid", "0,8", "0.80"),
        (Entity.TARGET, "bid", "1.250,5", "1250.50"),
        (Entity.TARGET, "bid", "lots", "lots"),
        (Entity.PLACEMENT, "adjustment", "12,0", "12"),
        (Entity.TARGET, "state", " paused ", "paused"),
    ],
)
def test_a_new_value_is_written_as_the_sheet_has_it(entity, field, typed, value):
    change = Change(row=1, action=Action.UPDATE, entity=entity, campaign="c", field=field, new_value="")
    assert ValueForm(MultiDict({"new_value": typed}), "de_DE").value_for(change) == value
