"""What is read on pages and in documents: short sentences in plain words, and one word for one thing."""

import re
from collections import deque
from pathlib import Path
from urllib.parse import urljoin, urlsplit

import pytest
import textstat
from bs4 import BeautifulSoup
from tests.web.conftest import signed_in

ROOT = Path(__file__).resolve().parents[2]
LONGEST = 25
BLOCKS = ["p", "li", "td", "th", "h1", "h2", "h3", "label", "summary", "figcaption", "dd"]
FORMER = (
    "costly",
    "leaning",
    "undecided",
    "at stake",
    "sibling",
    "run dry",
    "ran dry",
    "dry hours",
    "shut out",
    "(?<!advertising )cost of sale",
    "price per click",
    "click rate",
    "put away",
    "tick it off",
    "work it out",
    "take it over",
    "is held",
    "are held",
    "elsewhere in search",
)
"""Words that pages had for things which have one name now: see the glossary."""
NAMES = re.compile(r"\b[A-Z]{2}-[A-Z0-9-]+|/\S+|\S+@\S+|“[^”]*”")
"""Names of the demo's world, paths and quotes are nobody's prose."""


def blocks(html):
    """The texts of a page, each paragraph, cell and tip by itself."""
    page = BeautifulSoup(html, "lxml")
    for each in page(["script", "style", "svg", "select", "template"]):
        each.decompose()
    main = page.find("main") or page.body
    for each in main.find_all(BLOCKS):
        if not each.find(["p", "li", "td", "table"]):
            yield " ".join(each.get_text(" ").split())
    for each in main.find_all(title=True):
        yield " ".join(each["title"].split())


def sentences(text):
    for each in re.split(r"(?<=[.!?])\s+(?=[A-Z“0-9€£])", NAMES.sub("It", text)):
        if each.endswith(".") and len(re.findall(r"[A-Za-z]{2,}", each)) >= 4:
            yield each


@pytest.fixture(scope="module")
def texts(app, demo):
    """All texts of all pages that links lead to, of one brand; Intake tells of files of other tests."""
    client = signed_in(app, "demo@nimbus-reef.example", demo.password)
    start = "/pulse/?account=fernhollow-de"
    seen, queue, found = {urlsplit(start).path}, deque([start]), {}
    while queue:
        address = queue.popleft()
        answer = client.get(address, follow_redirects=True)
        if answer.status_code != 200 or "html" not in answer.content_type:
            continue
        html = answer.get_data(as_text=True)
        found[address] = list(blocks(html))
        for link in BeautifulSoup(html, "lxml").find_all("a", href=True):
            there = urljoin(address, link["href"]).split("#")[0]
            path = re.sub(r"/\d+", "/N", urlsplit(there).path)
            if (
                there.startswith("/")
                and path not in seen
                and "export" not in path
                and not path.startswith("/intake")
                and not path.endswith((".xlsx", ".csv"))
            ):
                seen.add(path)
                queue.append(there)
    assert len(found) > 30
    return found


def test_sentences_are_short_and_easy(texts):
    said = {each for page in texts.values() for text in page for each in sentences(text)}
    assert len(said) > 100
    too_long = [each for each in said if len(re.findall(r"[A-Za-z’'-]+", each)) > LONGEST]
    assert not too_long
    assert textstat.flesch_reading_ease(" ".join(sorted(said))) >= 60


def test_no_page_uses_a_former_word(texts):
    found = {
        (word, address): text
        for address, page in texts.items()
        # The report is written for readers outside the trade.
        if "/report" not in address
        for text in page
        for word in FORMER
        if re.search(rf"\b{word}", NAMES.sub("it", text), re.IGNORECASE)
    }
    assert not found


@pytest.mark.parametrize(
    "document",
    ["README.md", "CONTRIBUTING.md", *sorted(p.name for p in (ROOT / "docs").glob("*.md") if p.name != "wording.md")],
)
def test_documents_are_easy_to_read(document):
    path = ROOT / document if (ROOT / document).exists() else ROOT / "docs" / document
    text = re.sub(r"```.*?```|^\|.*?$|`[^`]*`", " it ", path.read_text(), flags=re.DOTALL | re.MULTILINE)
    plain = " ".join(re.sub(r"[*#_>\[\]()]", " ", text).split())
    said = " ".join(each for each in re.split(r"(?<=[.!?])\s+", plain) if len(each.split()) > 3)
    assert not said or textstat.flesch_reading_ease(said) >= 50
