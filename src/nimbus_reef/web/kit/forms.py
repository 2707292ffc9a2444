"""What people fill in: fields that read figures as the account writes them, and one way of refusing."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Final, Self

from wtforms import Field, Form, IntegerField
from wtforms.validators import ValidationError
from wtforms.widgets import TextInput

from nimbus_reef.errors import BadInput
from nimbus_reef.formats.typed import number, whole

_LONGEST: Final = 18


def stripped(text: str | None) -> str:
    """Outer white space off; nothing where nothing was sent."""
    return (text or "").strip()


class FigureField(Field):
    """A figure, in the form's locale or any other common way of writing; None where nothing is typed."""

    widget = TextInput()
    data: Decimal | None

    def process_formdata(self, valuelist: list[str]) -> None:
        """Reads what was typed."""
        text = (valuelist[0] if valuelist else "").strip()
        self.data = number(text, getattr(self.meta, "written_as", "en")) if text else None
        if text and self.data is None:
            raise ValueError(f"“{text}” is not a number.")


class WholeField(IntegerField):
    """A whole number of a length that anything counted here can have."""

    def process_formdata(self, valuelist: list[str]) -> None:
        """Reads what was typed; what is longer is none."""
        if valuelist and len(valuelist[0].strip()) > _LONGEST:
            self.data = None
            raise ValueError("Too long.")
        super().process_formdata(valuelist)


class IdsField(Field):
    """Ids of what was ticked, as many as there are."""

    widget = TextInput()
    data: list[int] | None

    def process_formdata(self, valuelist: list[str]) -> None:
        """Reads them; anything but a whole number is refused."""
        try:
            self.data = [whole(text) for text in valuelist]
        except ValueError:
            raise ValueError("Not an option.") from None


class Above:
    """Refuses figures at or below the least."""

    def __init__(self, least: float) -> None:
        self.least = Decimal(str(least))

    def __call__(self, form: Any, field: Any) -> None:  # noqa: ARG002
        """Raises where the figure is too small."""
        if field.data is not None and field.data <= self.least:
            raise ValidationError(f"Enter more than {self.least}.")


class ReefForm(Form):
    """A form whose first fault is told as any bad input: which field, what is wrong, and how to write it."""

    def __init__(self, given: Any, locale: str = "en") -> None:
        self.locale = locale
        # Fields are filled as the form is made; `meta` tells them how figures are written. Messages stay English.
        super().__init__(given, meta={"written_as": locale})

    def checked(self) -> Self:
        """
        The form, if all of it can be read; BadInput for the first field that cannot. A field's remedy is its
        description.
        """
        if not self.validate():
            field = next(each for each in self if each.errors)
            raise BadInput(
                f"{field.label.text}: {field.errors[0]}", remedy=field.description or "Fix it and save again."
            )
        return self
