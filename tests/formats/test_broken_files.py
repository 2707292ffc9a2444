"""Files that only look right: none loads another number than stands in it, none is refused without a way on."""

import csv
import io
import itertools
import random
import resource
import signal
import threading
import time
from datetime import date, timedelta

import polars as pl
import pytest
import xlsxwriter

from nimbus_reef.errors import BadFile, ReefError
from nimbus_reef.formats import sandbox
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.values import Style

HEADER = ["Date", "Campaign", "Impressions", "Clicks", "Cost", "Orders", "Sales"]
COLUMNS = dict(zip(["date", "campaign", "impressions", "clicks", "spend", "orders", "sales"], HEADER, strict=True))
CHOSEN = ColumnMap("campaign_daily", COLUMNS)
ROWS = 60


def work_of_readers():
    """Seconds of processor time of all readers so far: whatever else the machine does, it is theirs."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    waiting = sum(sandbox.work_of(each.process.pid) for each in sandbox.POOL.idle)
    return used.ru_utime + used.ru_stime + waiting


def rows(seed):
    """What truly happened: date, campaign, impressions, clicks, cents, orders, cents."""
    rng = random.Random(seed)
    return [
        (
            date(2026, 10, 1) + timedelta(days=n // 10),
            f"Campaign {n % 10}",
            rng.randint(1000, 99_999),
            rng.randint(0, 999),
            rng.randint(1, 9_999_999),
            rng.randint(0, 40),
            rng.randint(0, 99_999_999),
        )
        for n in range(ROWS)
    ]


def money(cents, style):
    whole, part = divmod(cents, 100)
    grouped = f"{whole:,}" if style in ("dot", "comma") else str(whole)
    text = f"{grouped}.{part:02}"
    return text.translate(str.maketrans(",.", ".,")) if style in ("comma", "bare comma") else text


def cells(row, style):
    return [
        row[0].isoformat(),
        row[1],
        str(row[2]),
        str(row[3]),
        money(row[4], style),
        str(row[5]),
        money(row[6], style),
    ]


def written(table, delimiter):
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows([HEADER, *table])
    return out.getvalue()


def in_a_row(text, rng, old, new, first=1):
    """Something of one row made something else; first=0 takes the header too."""
    lines = text.split("\n")
    number = rng.randint(first, ROWS)
    lines[number] = lines[number].replace(old, new, 1)
    return "\n".join(lines).encode()


def nothing(text, rng):
    return text.encode()


def other_sign(text, rng):
    """Some cells of money have the other decimal sign."""
    lines = text.split("\n")
    for number in rng.sample(range(1, ROWS + 1), rng.choice((2, 20))):
        lines[number] = (
            lines[number].translate(str.maketrans(",.", ".,"))
            if ";" in lines[number]
            else lines[number].replace(".", ",", 1)
        )
    return "\n".join(lines).encode()


def unquoted_comma(text, rng):
    """A cell that holds the separator loses its quotes: the row has a cell too many."""
    lines = text.split("\n")
    for number in rng.sample(range(1, ROWS + 1), 2):
        separator = ";" if ";" in lines[number] else ","
        lines[number] = lines[number].replace('"', "") + f"{separator}7"
    return "\n".join(lines).encode()


def too_few(text, rng):
    lines = text.split("\n")
    number = rng.randint(1, ROWS)
    lines[number] = lines[number].rpartition(";" if ";" in lines[number] else ",")[0]
    return "\n".join(lines).encode()


def stray_quotes(text, rng):
    """Two quotes, some rows apart, that would swallow all between them."""
    lines = text.split("\n")
    first = rng.randint(1, 25)
    for number in (first, first + rng.randint(1, 30)):
        lines[number] = lines[number].replace("Campaign", '"Campaign', 1)
    return "\n".join(lines).encode()


def one_quote(text, rng):
    """A quote in the header or in one row that nothing closes."""
    return in_a_row(text, rng, "Campaign", '"Campaign', first=0)


def odd_byte(text, rng):
    data = (text.replace("Campaign 3", "Campagne été 3")).encode().split(b"\n")
    number = rng.randint(1, ROWS)
    data[number] = data[number][:12] + b"\xff" + data[number][12:]
    return b"\n".join(data)


def zero_byte(text, rng):
    data = text.encode().split(b"\n")
    number = rng.randint(1, ROWS)
    data[number] = data[number][:14] + b"\0" + data[number][14:]
    return b"\n".join(data)


def month_for_day(text, rng):
    return in_a_row(text, rng, "2026-10-0", "2026-1")


def long_cell(text, rng):
    return in_a_row(text, rng, "2026-10", "9" * 60_000)


def endless_money(text, rng):
    lines = text.split("\n")
    number = rng.randint(1, ROWS)
    separator = ";" if ";" in lines[number] else ","
    parts = next(csv.reader([lines[number]], delimiter=separator))
    parts[4] = "9" * rng.choice((14, 19, 30))
    lines[number] = separator.join(f'"{part}"' for part in parts)
    return "\n".join(lines).encode()


def long_name(text, rng):
    return in_a_row(text, rng, "Campaign", "C" * 600)


def old_returns(text, rng):
    return text.replace("\n", "\r").encode()


def wide_file(text, rng):
    return text.encode("utf-16")


def a_total(text, rng):
    return (text + ("Total;;1;1;1,00;1;1,00\n" if ";" in text else "Total,,1,1,1.00,1,1.00\n")).encode()


def a_remark(text, rng):
    return (text + "\nMade by a program\n").encode()


def cut_off(text, rng):
    return text.encode()[: -rng.randint(3, 25)]


BREAKS = [
    nothing,
    other_sign,
    unquoted_comma,
    too_few,
    stray_quotes,
    one_quote,
    odd_byte,
    zero_byte,
    month_for_day,
    long_cell,
    endless_money,
    long_name,
    old_returns,
    wide_file,
    a_total,
    a_remark,
    cut_off,
]
STYLES = (("dot", ","), ("comma", ";"), ("bare comma", ","))
CASES = [(break_, style, seed) for break_, style, seed in itertools.product(BREAKS, STYLES, range(5))]


def read(path):
    """What was read, or else why not."""
    try:
        ((_, parsed, _),) = sandbox.parse_file(path, path.name, [CHOSEN], "UTC", {})
    except ReefError as problem:
        return None, problem
    return parsed, None


@pytest.mark.parametrize(("break_", "style", "seed"), CASES)
def test_no_broken_file_tells_another_number(tmp_path, break_, style, seed):
    """Each row that is read stands in the file as it was written; the rest are rejects, or all is refused."""
    true = rows(seed)
    text = written([cells(row, style[0]) for row in true], style[1])
    path = tmp_path / "broken.csv"
    path.write_bytes(break_(text, random.Random(seed)))
    begun = work_of_readers()
    parsed, refused = read(path)
    assert work_of_readers() - begun < 20
    if parsed is None:
        assert refused.place.startswith("broken.csv")
        assert refused.message
        assert refused.remedy
        assert break_ not in (nothing, wide_file, old_returns, a_total, a_remark, too_few, odd_byte, zero_byte)
        return
    told = {
        (row["date"], row["campaign"].replace("Campagne été", "Campaign").strip('"')): (
            row["impressions"],
            row["clicks"],
            row["spend"],
            row["orders"],
            row["sales"],
        )
        for row in parsed.rows.to_dicts()
    }
    expected = {
        (day, campaign): (impressions, clicks, spend * 10_000, orders, sales * 10_000)
        for day, campaign, impressions, clicks, spend, orders, sales in true
    }
    wrong = {key: (figures, expected.get(key)) for key, figures in told.items() if expected.get(key) != figures}
    if break_ is cut_off:
        # What is left of the last line may be a shorter figure: nothing in the file says that more was meant.
        wrong.pop(max(expected), None)
        wrong.pop((true[-1][0], true[-1][1]), None)
    assert wrong == {}
    assert len(parsed.rows) + parsed.rejects["line"].n_unique() >= ROWS - 1
    assert all(parsed.rejects["reason"].str.len_chars() > 5)


def test_a_file_whose_every_figure_could_be_either_is_asked_about(tmp_path):
    path = tmp_path / "doubt.csv"
    path.write_text("\n".join([";".join(HEADER), "2026-10-01;A;9;8;1,250;1;2,500", "2026-10-01;B;9;8;3,125;1;0"]))
    with pytest.raises(ReefError, match="1,250") as problem:
        sandbox.parse_file(path, "doubt.csv", [CHOSEN], "UTC", {})
    assert "--decimal" in problem.value.remedy
    for style, spend in ((Style.DOT, 4_375_000_000), (Style.COMMA, 4_375_000)):
        said = ColumnMap("campaign_daily", COLUMNS, decimal=style)
        ((_, parsed, _),) = sandbox.parse_file(path, "doubt.csv", [said], "UTC", {})
        assert parsed.sums["spend"] == spend


def far_cell(path):
    book = xlsxwriter.Workbook(str(path))
    sheet = book.add_worksheet()
    for number, head in enumerate(HEADER):
        sheet.write(0, number, head)
    sheet.write(9_999, 16_383, "x")
    book.close()


def many_columns(path):
    wide = [f"c{number}" for number in range(10_000)]
    path.write_text(",".join(wide) + "\n" + ",".join("1" for _ in wide) + "\n")


def endless_date(path):
    path.write_text(",".join(HEADER) + "\n" + "9" * 60_000 + ",A,1,1,1,1,1\n")


def no_zip(path):
    path.write_bytes(b"PK\x03\x04" + bytes(range(256)) * 20)


def half_parquet(path):
    pl.DataFrame({"date": ["2026-10-01"], "campaign": ["A"]}).write_parquet(path)
    path.write_bytes(path.read_bytes()[:-40])


def nested_parquet(path):
    pl.DataFrame({"Date": [["2026-10-01"]], "Campaign": [{"a": 1}]}).write_parquet(path)


HOSTILE = [
    (far_cell, "a.xlsx"),
    (many_columns, "a.csv"),
    (endless_date, "a.csv"),
    (no_zip, "a.xlsx"),
    (half_parquet, "a.parquet"),
    (nested_parquet, "a.parquet"),
]


def as_report(path, name):
    return sandbox.parse_file(path, name, [CHOSEN], "UTC", {})


@pytest.mark.parametrize("task", [as_report, sandbox.edited_rows])
@pytest.mark.parametrize(("make", "name"), HOSTILE)
def test_whatever_a_reader_does_the_person_gets_place_reason_and_remedy_in_time(tmp_path, make, name, task):
    """
    Within 20 s of work and 1 GB, nothing of a library's words or the server's paths; the next file
    is read as ever.
    """
    path = tmp_path / name
    make(path)
    begun = work_of_readers()
    with pytest.raises(ReefError) as problem:
        task(path, name)
    assert work_of_readers() - begun < 20
    assert problem.value.place.startswith(name)
    assert problem.value.remedy
    for word in (str(tmp_path), "polars", "calamine", "Traceback", "panicked"):
        assert word not in str(problem.value)
    good = tmp_path / "good.csv"
    good.write_text(written([cells(row, "dot") for row in rows(1)], ","))
    ((_, parsed, _),) = as_report(good, "good.csv")
    assert len(parsed.rows) == ROWS


def test_no_reader_took_a_gigabyte():
    """Of all readers that this run has started and ended."""
    assert resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss < 1024 * 1024


@pytest.mark.slow
def test_a_reader_that_is_kept_from_working_is_waited_for(tmp_path, monkeypatch):
    """A busy machine is not the file's fault: what counts is the reader's own work."""
    good = tmp_path / "good.csv"
    good.write_text(written([cells(row, "dot") for row in rows(1)], ","))
    sandbox.inspect(good, "good.csv", 10)
    # The clock is left out of it: a machine that runs the other tests may keep a reader waiting for long.
    monkeypatch.setattr(sandbox, "_WAITS", 100)
    monkeypatch.setattr(sandbox, "allowance", lambda size: sandbox.Allowance(900 * 2**20, 1.5))
    with sandbox.POOL.borrowed() as reader:
        process = reader.process
    process.send_signal(signal.SIGSTOP)
    later = threading.Timer(2.5, process.send_signal, [signal.SIGCONT])
    later.start()
    try:
        assert sandbox.inspect(good, "good.csv", 10)
    finally:
        later.join()


def readers_of_a_good_file(path):
    """The processes that wait for work after a good file, by pid."""
    path.write_text(written([cells(row, "dot") for row in rows(1)], ","))
    sandbox.parse_file(path, path.name, [CHOSEN], "UTC", {})
    return [each.process.pid for each in sandbox.POOL.idle]


def test_a_reader_is_kept_for_the_next_file(tmp_path):
    """
    Also one that holds much in the moment of its answer: it gives that back, and a start takes
    longer than most files.
    """
    assert readers_of_a_good_file(tmp_path / "a.csv") == readers_of_a_good_file(tmp_path / "b.csv") != []


def test_a_reader_that_keeps_its_memory_is_ended_while_it_waits(tmp_path, monkeypatch):
    monkeypatch.setattr(sandbox, "_KEPT_BELOW", 0)
    monkeypatch.setattr(sandbox, "_GIVES_BACK_SECONDS", 0.05)
    (pid,) = readers_of_a_good_file(tmp_path / "a.csv")
    until = time.monotonic() + 20
    while (sandbox.POOL.idle or sandbox.work_of(pid)) and time.monotonic() < until:
        time.sleep(0.02)
    assert (sandbox.POOL.idle, sandbox.work_of(pid)) == ([], 0)


def test_the_reasons_of_a_refusal_come_in_one_order(tmp_path):
    """Equally many rows for each: by where they come first."""
    path = tmp_path / "reasons.csv"
    table = [cells(row, "dot") for row in rows(1)]
    table[9], table[19], table[29], table[39] = (
        table[9][:-1],
        [*table[19], "more"],
        [*table[29][:-2]],
        [*table[39], "a", "b"],
    )
    path.write_text(written(table, ","))
    with pytest.raises(
        BadFile, match=r"has 6 cells.*line 11: .*has 8 cells.*line 21: .*has 5 cells.*line 31: "
    ) as problem:
        sandbox.parse_file(path, path.name, [CHOSEN], "UTC", {})
    assert problem.value.place == path.name


@pytest.mark.parametrize(("long", "short"), [(0, 1), (1, 0), (7, ROWS - 1), (ROWS - 1, 30)])
def test_a_line_with_a_cell_too_many_is_found_where_another_lacks_one(tmp_path, long, short):
    """Together the lines have as many separators as they should."""
    path = tmp_path / "both.csv"
    table = [cells(row, "bare") for row in rows(1)]
    table[long], table[short] = [*table[long], "more"], table[short][:-1]
    path.write_text(written(table, ","))
    ((_, parsed, _),) = sandbox.parse_file(path, path.name, [CHOSEN], "UTC", {})
    assert sorted(parsed.rejects.select("line", "reason").rows()) == sorted(
        [(long + 2, "has 8 cells where the header has 7"), (short + 2, "has 6 cells where the header has 7")]
    )
    assert len(parsed.rows) == ROWS - 2
