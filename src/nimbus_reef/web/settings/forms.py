"""What is typed into the settings of an account."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from wtforms import StringField

from nimbus_reef.core.settings import AccountSetting, Holds, Settings, register
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.typed import number
from nimbus_reef.web.kit.forms import ReefForm, stripped


class DescribeForm(ReefForm):
    """How an account is called, and how its figures and days are written."""

    marketplace = StringField("marketplace", filters=[stripped])
    currency = StringField("currency", filters=[stripped, str.upper])
    timezone = StringField("time zone", filters=[stripped])
    number_style = StringField("number style", filters=[stripped])


def typed(given: Any, before: Settings, locale: str) -> Settings:
    """
    The settings with what was typed; what is not in the form stays, what is emptied is as usual. BadInput for what
    cannot be read.
    """
    values = {
        key: setting.default if not given.get(key, "").strip() else _read(setting, given[key], locale)
        for key, setting in register().items()
        if key in given
    }
    return replace(before, **values)


def _read(setting: AccountSetting, text: str, locale: str) -> Any:
    if setting.holds is Holds.WORDS:
        return tuple(dict.fromkeys(word for line in text.replace(",", "\n").splitlines() if (word := line.strip())))
    if setting.holds in (Holds.TEXT, Holds.CHOICE):
        return text.strip()
    figure = number(text.strip().removesuffix("%").strip(), locale)
    if figure is None:
        raise BadInput(f"{setting.label}: “{text}” is not a number.", remedy="Nothing was changed.")
    if setting.holds is Holds.COUNT:
        if figure != int(figure):
            raise BadInput(f"{setting.label}: “{text}” is not a whole number.", remedy="Nothing was changed.")
        return int(figure)
    return float(figure) / (100 if setting.holds is Holds.RATE else 1)
