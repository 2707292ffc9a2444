"""Another value for a planned change."""

from __future__ import annotations

from wtforms import StringField

from nimbus_reef.core.changes import Change, ValueKind, kind_of
from nimbus_reef.formats.typed import number, two_decimals
from nimbus_reef.web.kit.forms import ReefForm, stripped


class ValueForm(ReefForm):
    """The new value, as the field of the change has it."""

    new_value = StringField("new value", filters=[stripped])

    def value_for(self, change: Change) -> str:
        """What was typed as the sheet writes it; what cannot be read stays as it is, and is refused by its check."""
        kind, text = kind_of(change), self.new_value.data or ""
        if kind is None or not kind.holds.is_number:
            return text
        if kind.holds is ValueKind.AMOUNT:
            return two_decimals(text, self.locale)
        percent = number(text, self.locale)
        return text if percent is None else f"{percent.normalize():f}"
