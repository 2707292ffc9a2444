"""Pages read as a browser reads them: by their elements, not by how they are written."""

from __future__ import annotations

import io

import polars as pl
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


def accept(client, address: str, data, **how):
    """Accepts as a person does: what is shown first is sent back with its ticks, and what it asks about ticked."""
    told = client.post(address, data=data, **how)
    if told.status_code != 200 or not parsed(told).select("button[name=sure]"):
        return told
    sent = sent_by(told) | {"sure": ["yes"], "asked": ["yes"], "take": values(told, "[name=take]", "value")}
    return client.post(address, data=sent, **how)


def workbook(client, address: str) -> dict[str, pl.DataFrame]:
    """The sheets of a workbook that is handed out at once, or that a worker makes first."""
    response = client.get(address, follow_redirects=True)
    if response.mimetype == "text/html":
        response = client.get(link(response, css="a[href^='/exports/'][href*='/file']"))
    sheets = pl.read_excel(io.BytesIO(response.data), sheet_id=0, infer_schema_length=None)
    response.close()
    return sheets


def act(client, view: str, **data):
    """Does an action on rows of a list of one demo brand, without its preview."""
    return client.post(
        f"/rules/{view}/act",
        data={"account": "fernhollow-de", "sure": "yes", "asked": "yes", **data},
        follow_redirects=True,
    )
