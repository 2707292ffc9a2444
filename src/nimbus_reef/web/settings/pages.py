"""What the accounts and their settings say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.core.settings import AccountSetting, Holds, Settings, register
from nimbus_reef.formats.figures import Figures


@dataclass(frozen=True, slots=True)
class SettingLine:
    """
    A setting as a field: what stands in it, the default and the unit in words, what it changes,
    whether it differs.
    """

    key: str
    label: str
    value: str
    default: str
    unit: str
    changes: str
    many: bool
    differs: bool
    options: tuple[str, ...] = ()


def groups(settings: Settings, figures: Figures) -> list[tuple[str, list[SettingLine]]]:
    """All settings under their headings, in the order of the register."""
    found: dict[str, list[SettingLine]] = {}
    for key, setting in register().items():
        value = getattr(settings, key)
        line = SettingLine(
            key,
            setting.label,
            written(setting, value, figures),
            written(setting, setting.default, figures) or "none",
            (
                figures.symbol + (f" {setting.unit}" if setting.unit else "")
                if setting.holds is Holds.MONEY
                else setting.unit
            ),
            setting.changes,
            setting.holds is Holds.WORDS,
            value != setting.default,
            setting.options,
        )
        found.setdefault(setting.group.value, []).append(line)
    return list(found.items())


def written(setting: AccountSetting, value: Any, figures: Figures) -> str:
    """A value as it is typed."""
    if setting.holds is Holds.WORDS:
        return ", ".join(value)
    if setting.holds in (Holds.TEXT, Holds.CHOICE):
        return str(value)
    if setting.holds is Holds.COUNT:
        return figures.count(value)
    if setting.holds is Holds.RATE:
        per_cent = value * 100
        return figures.number(per_cent, 0 if abs(per_cent - round(per_cent)) < 0.005 else 1)
    return figures.number(value, 2)


def changed_words(keys: Sequence[str]) -> str:
    """What was changed, and which figures that moves."""
    if not keys:
        return "Nothing was changed."
    known = register()
    moved = dict.fromkeys(known[key].changes for key in keys if known[key].changes != "as above")
    return f"Changed: {', '.join(known[key].label for key in keys)}. This moves {'; '.join(moved)}."
