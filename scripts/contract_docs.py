"""Writes docs/data-contract.md: the prose by hand, the columns from formats/contract.py."""

from pathlib import Path

from nimbus_reef.core.changes import KEY_FIELDS
from nimbus_reef.formats import change_sheet
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.kinds import KINDS

HEAD = """# What files may look like

CSV (UTF-8, UTF-16, Windows-1252; comma, semicolon, tab or bar), XLSX or Parquet. The names below are ours; other names,
orders, extra columns, title lines, totals lines, currency signs, `1.234,56`, `12.5%`, `–` for nothing and other date
styles are understood, shown before loading, and can be changed. Up to 2 GB, 20 million rows (XLSX 1 million), 1,000 columns.

A file by day replaces the days from its first to its last, under its ad format's label; held days it has no row for need
a yes, as do days in the future and spans over 400 days. A row that cannot be read goes to the rejects with line, column,
value and reason; above 5 % nothing is loaded. Identical lines count once; other repeats of a key add up. Names are compared
byte for byte, outer white space off; ids, where given, win over names, and a row that has only an id takes the name from
another row of the file or from what was loaded before.

**Days, sums, no dates.** Reports that count may come by day (`date`), as one sum for several days (`from` and `to`, or both in
one cell as `period`), or without any date: then the days are asked for, suggested from a title line or the file's name (on the
command line `--from`, `--to`; settings: `--day`). A sum is kept as that: it is in a window that holds all of its days, and left
out, by name, of one that holds a part. What needs days says so.

**The label.** product, brand, display or all: as the campaigns in the file say, if their settings are held and are of one format;
else as last time for this source; else all. Where that would remove rows of campaigns that are not in the file, it is asked.

**Figures.** One file has one decimal sign, found in its cells; a cell that contradicts it is a reject, and where every cell could be
either (`1,250`), it is asked (`--decimal`). So is the order of day and month (`--dates`). A row with more or fewer cells than the header,
a quote left open, a byte that is not text are rejects. No figure of money is above 10^12.

**Several in one.** A workbook's sheets are offered each; a sheet whose rows are of several kinds, told apart by a column, is read as all
of them. One file is one load: all of it or nothing, undone together. Words of closed lists are known in English, German, French,
Spanish and Italian; others are asked (`--value match_type:WORD=phrase`).
"""
MEANINGS = {
    CellKind.DATE: "day",
    CellKind.WEEK: "day of the week, kept as its Monday",
    CellKind.MONTH: "month, as 2026-10",
    CellKind.TIME: "time, ISO 8601",
    CellKind.NUMBER: "number",
    CellKind.TEXT: "text",
    CellKind.COUNT: "whole number",
    CellKind.HOUR: "hour, 0 to 23",
    CellKind.MONEY: "money",
    CellKind.SHARE: "share, 0 … 1",
    CellKind.PERCENT: "percent",
    CellKind.RANK: "rank",
    CellKind.CHOICE: "",
    CellKind.PERIOD: "first and last day in one cell",
}

parts = [HEAD]
for kind in KINDS.values():
    parts += [
        f"## {kind.title} (`{kind.name}`)",
        f"One row is {kind.row_is}.",
        "",
        "| column | what | needed |",
        "|---|---|---|",
    ]
    for column in kind.columns:
        words = (
            ", ".join(dict.fromkeys(column.aliases.values()))
            if column.holds is CellKind.CHOICE
            else MEANINGS[column.holds]
        )
        spanned = kind.takes_blocks and column.name in ("date", "from", "to", "period")
        needed = "one way of telling days" if spanned else "yes" if column.required else ""
        parts.append(f"| `{column.name}` | {words} | {needed} |")
    parts.append("")
parts += [
    "## Change sheet",
    f"`{', '.join(change_sheet.COLUMNS)}`.",
    "",
    (
        f"Read back after editing: rows match by `row` and {', '.join(f'`{name}`' for name in KEY_FIELDS)}. A changed"
        " `new_value` is taken, a removed row leaves the plan, an unknown row or a stale `old_value` is an error at"
        " that row; then nothing is taken. Text that a spreadsheet would run begins with an apostrophe, which reading"
        " takes off again."
    ),
    "",
]
Path("docs/data-contract.md").write_text("\n".join(parts))
