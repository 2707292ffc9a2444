"""
Separator and header line are chosen on the mapping page, stored with the load, and reused for the next file of the
source.
"""

from tests.pages import found, text_of
from tests.web.test_odd_files import loaded, sent

HEADER = "Day,Campaign,Impr.,Clicks,Cost,Orders,Revenue"
ABOVE = "Campaigns,of,October,by,day,in,euro"


def report(month, clicks=30):
    rows = "".join(f"2026-{month:02}-{n:02},C,900,{clicks},15.00,2,40.00\n" for n in range(1, 9))
    return f"{ABOVE}\nall,of,it,1,2,3,4\n{HEADER}\n{rows}".encode()


def test_a_header_line_that_was_said_holds_for_the_load_and_for_the_next_file(visitor):
    page = sent(visitor, report(9), "sept.csv")
    assert "detected: line 1" in text_of(page)
    assert "line 3: Day,Campaign" in text_of(page)
    address = page.request.path
    said = {"header-0": "3", "named-0": "", "separator": ""}
    page = visitor.get(address, query_string=said)
    assert "This looks like “Campaigns by day”" in text_of(page)
    assert found(page, "select[name='header-0'] option[selected]")["value"] == "3"
    done = visitor.post(f"{address}/load", data=said | {"scope": "product"}, follow_redirects=True)
    assert "sept.csv ✓ Campaigns by day" in text_of(done)
    assert "rows 8 days 8" in text_of(done)
    later = sent(visitor, report(10), "oct.csv")
    assert "mapped as last time" in text_of(later)
    assert "rows 8 days 8 from 2026-10-01" in loaded(visitor, later)
    back = visitor.get(later.request.path, query_string={"header-0": "", "named-0": "", "separator": ""})
    assert "mapped as last time" not in text_of(back)


def test_a_line_or_a_sign_that_cannot_be_is_refused(visitor):
    address = sent(visitor, report(9), "sept.csv").request.path
    for said in ({"header-0": "x"}, {"header-0": "", "separator": "#"}, {"header-0": "-1"}):
        assert visitor.get(address, query_string=said).status_code == 400
    assert visitor.get(address, query_string={"header-0": "999"}).status_code == 422


def test_what_loading_the_same_file_again_would_do_follows_the_choices(visitor):
    content = f"{HEADER}\n".encode() + b"".join(report(9).splitlines(keepends=True)[3:])
    page = sent(visitor, content, "sept.csv")
    loaded(visitor, page)
    again = sent(visitor, content, "sept.csv")
    assert "(8 rows). Loading it again changes only its date" in text_of(again)
    as_hours = text_of(visitor.get(again.request.path, query_string={"kind": "hourly"}))
    assert "as “Campaigns by day” (8 rows). That load stays." in as_hours
    other = visitor.get(again.request.path, query_string={"kind": "campaign_daily", "header-0": "2"})
    assert "(8 rows) with other choices" in text_of(other)
