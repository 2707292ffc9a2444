"""Pages read as a browser reads them: by their elements, not by how they are written."""

from __future__ import annotations

from bs4 import BeautifulSoup, Tag


def parsed(page) -> BeautifulSoup:
    """The elements of a response, or of a page as text."""
    text = page if isinstance(page, str) else page.get_data(as_text=True)
    return BeautifulSoup(text, "lxml")


def found(page, css: str) -> Tag:
    """The first element that a selector finds; there has to be one."""
    element = parsed(page).select_one(css)
    assert element is not None, f"nothing is {css}"
    return element


def words(element: Tag) -> str:
    """What an element says, spaces collapsed."""
    return " ".join(element.get_text(" ").split())


def text_of(page) -> str:
    """What a page says, spaces collapsed."""
    return words(parsed(page))


def texts(page, css: str) -> list[str]:
    """What each element that a selector finds says."""
    return [words(each) for each in parsed(page).select(css)]


def values(page, css: str, name: str) -> list[str]:
    """An attribute of each element that a selector finds."""
    return [str(each[name]) for each in parsed(page).select(css)]


def link(page, label: str = "", css: str = "a[href]") -> str:
    """Where the first link with these words leads."""
    return next(str(each["href"]) for each in parsed(page).select(css) if label in words(each))


def row_ids(page) -> list[str]:
    """The keys of a table's rows."""
    return values(page, "[data-row]", "data-row")


def token(page) -> str:
    """What a form's write is signed with."""
    return str(found(page, "[name=csrf_token]")["value"])


def sent_by(page, css: str = "form.sure") -> dict[str, list[str]]:
    """What a form's hidden fields send, the token left out."""
    found_form = found(page, css)
    sent: dict[str, list[str]] = {}
    for each in found_form.select("input[type=hidden]"):
        if each["name"] != "csrf_token":
            sent.setdefault(str(each["name"]), []).append(str(each["value"]))
    return sent
