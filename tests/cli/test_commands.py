"""The reef command: what it prints, how it ends, what a stranger reads in its help."""

import csv
import io
import json
import subprocess
import sys
from datetime import date

import click
import pytest
from click.testing import CliRunner

from nimbus_reef import config
from nimbus_reef.cli import large, wiring
from nimbus_reef.cli.main import COMMANDS, cli
from nimbus_reef.config import SETTINGS, load
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

HEADER = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n"


@pytest.fixture
def reef(database, store, account, tmp_path):
    """Runs a command against the test database."""

    def run(*arguments, text=None):
        environment = {"REEF_VAR": str(tmp_path), "REEF_DATABASE_URL": database.app_url, "REEF_LOG_LEVEL": "ERROR"}
        return CliRunner().invoke(cli, [str(each) for each in arguments], env=environment, input=text)

    return run


@pytest.fixture
def report(tmp_path):
    """Thirty days of one bad term among good ones."""
    rows = [
        f"2026-10-{day:02},C,G,t{number},broad,term {number},100,4,2.00,{int(number != 7 and day % 3 == 0)},"
        f"{20 if number != 7 and day % 3 == 0 else 0}\n"
        for day in range(1, 31)
        for number in range(12)
    ]
    path = tmp_path / "terms.csv"
    path.write_text(HEADER + "".join(rows))
    return path


def test_a_report_goes_in_and_its_audit_comes_out(reef, report):
    """import, then audit as json, csv and a table."""
    done = reef("import", report, "--account", "fern-de", "--yes")
    assert done.exit_code == 0, done.output
    assert "Search terms by day, 360 rows on 30 days" in done.output
    arguments = ("audit", "--account", "fern-de", "--from", "2026-10-01", "--to", "2026-10-30")
    found = json.loads(reef(*arguments, "--format", "json").stdout)
    wasted = next(check for check in found["checks"] if check["check"] == "wasted-terms")
    assert (wasted["rows"], wasted["spend"]) == (1, 60.0)
    assert wasted["share_of_spend"] == pytest.approx(60 / 720), "of all that was spent"
    assert [row["term"] for row in found["rows"] if row["check"] == "wasted-terms"] == ["term 7"]
    rows = list(csv.DictReader(io.StringIO(reef(*arguments, "--format", "csv").stdout)))
    assert {row["check"] for row in rows} == {check["check"] for check in found["checks"] if check["rows"]}
    assert "term 7" in reef(*arguments).output


def test_a_lower_target_finds_more(reef, report):
    reef("import", report, "--account", "fern-de", "--yes")
    arguments = ("audit", "--account", "fern-de", "--from", "2026-10-01", "--to", "2026-10-30", "--format", "json")
    strict = json.loads(reef(*arguments, "--target-acos", "0.05").stdout)
    assert sum(check["rows"] for check in strict["checks"]) > 3


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (("audit", "--account", "nobody"), 1, "Accounts: fern-de"),
        (("audit", "--account", "fern-de"), 1, "Nothing is loaded yet"),
        (("audit", "--account", "fern-de", "--from", "2026-10-01"), 1, "Give both"),
        (("audit",), 2, "Missing option"),
        (("export", "--account", "fern-de", "-o", "plan.doc"), 1, "neither .csv nor .xlsx"),
    ],
)
def test_what_cannot_be_done_says_why_and_ends_with_its_code(reef, arguments, code, words):
    done = reef(*arguments)
    assert done.exit_code == code
    assert words in done.output.replace("\n", " ")


def test_a_question_ends_with_3_and_yes_goes_ahead(reef, tmp_path):
    path = tmp_path / "terms.csv"
    path.write_text(HEADER + "".join(f"203{n % 2}-10-01,C,G,t,broad,x{n},9,1,1,0,0\n" for n in range(20)))
    asked = reef("import", path, "--account", "fern-de")
    assert asked.exit_code == 3
    assert "after today" in asked.output
    assert reef("import", path, "--account", "fern-de", "--yes").exit_code == 0


@pytest.mark.parametrize(
    ("name", "header", "row"),
    [
        ("hours.csv", "hour,campaign,impressions,clicks,spend,orders,sales", "{n},C,900,30,15.00,2,40.00"),
        (
            "keywords.csv",
            "campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales",
            "C,G,t{n},exact,900,30,15.00,2,40.00",
        ),
    ],
)
def test_the_days_of_a_sum_that_a_title_tells_are_suggested_and_not_taken(reef, tmp_path, name, header, row):
    path = tmp_path / name
    rows = "".join(f"{row.format(n=n)}\n" for n in range(24))
    path.write_text(f"All of it from 1 Oct 2026 to 31 Oct 2026\n{header}\n{rows}")
    refused = reef("import", path, "--account", "fern-de")
    assert refused.exit_code == 1
    assert "--from 2026-10-01 --to 2026-10-31" in refused.output.replace("\n", " ")
    assert json.loads(reef("batches", "--account", "fern-de", "--format", "json").stdout) == []
    done = reef("import", path, "--account", "fern-de", "--from", "2026-10-01", "--to", "2026-10-31", "--yes")
    assert "one sum for 2026-10-01 to 2026-10-31" in done.output


def test_a_separator_and_a_header_line_are_said_by_flags(reef, tmp_path):
    path = tmp_path / "odd.csv"
    rows = [f"2026-07-{n:02}~C~{900 + n}~{30 + n}~15.50~{n % 3}~{n % 3 * 20}.50" for n in range(1, 29)]
    path.write_text("\n".join(["a~b~c~d~e~f~g", "Day~Campaign~Impr.~Clicks~Cost~Orders~Revenue", *rows]) + "\n")
    done = reef("import", path, "--account", "fern-de", "--separator", "~", "--header-line", "2")
    assert done.exit_code == 0, done.output
    assert "Campaigns by day, 28 rows on 28 days" in done.output
    refused = reef("import", path, "--account", "fern-de", "--header-line", "31", "--again")
    assert "The line of the header is empty" in refused.output


def test_batches_are_listed_and_undone(reef, report):
    reef("import", report, "--account", "fern-de", "--yes")
    (batch,) = json.loads(reef("batches", "--account", "fern-de", "--format", "json").stdout)
    assert (batch["file"], batch["rows"], batch["undone_at"]) == ("terms.csv", 360, None)
    done = reef("undo", batch["batch"], "--account", "fern-de")
    assert "30 days or sums, 2026-10-01 to 2026-10-30, are as they were" in done.output
    (row,) = csv.DictReader(io.StringIO(reef("batches", "--account", "fern-de", "--format", "csv").stdout))
    assert row["undone_at"]
    assert "terms.csv" in reef("batches", "--account", "fern-de").output
    assert reef("undo", batch["batch"], "--account", "fern-de").exit_code == 1


def test_the_record_is_verified_and_its_day_files_made_anew(reef, report, tmp_path):
    reef("import", report, "--account", "fern-de", "--yes")
    assert reef("verify").exit_code == 0
    file = next((tmp_path / "snapshots").rglob("2026-10-01.v1.arrow"))
    file.write_bytes((file.parent / "2026-10-03.v1.arrow").read_bytes())
    told = reef("verify", "--account", "fern-de", "--format", "json")
    assert told.exit_code == 1
    assert {row["where"] for row in json.loads(told.stdout)} == {"2026-10-01"}
    assert "Search terms by day, 30 days" in reef("rebuild-snapshots").output
    assert reef("verify").exit_code == 0


def test_a_broken_file_ends_with_1_and_changes_nothing(reef, tmp_path):
    path = tmp_path / "terms.csv"
    path.write_text("a,b\n1,2\n")
    done = reef("import", path, "--account", "fern-de")
    assert done.exit_code == 1
    assert "No report kind fits" in done.output


def test_strange_columns_can_be_named_on_the_command_line(reef, tmp_path):
    path = tmp_path / "strange.csv"
    path.write_text(
        HEADER.replace("spend", "zaster").replace("date", "wann") + "2026-10-01,C,G,t,broad,x,9,1,1.5,0,0\n" * 1
    )
    done = reef("import", path, "--account", "fern-de", "--kind", "search_term_daily", "--column", "spend=zaster")
    assert done.exit_code == 0, done.output


def test_rejected_rows_say_why_and_how_to_go_on(reef, tmp_path):
    """The most frequent reason first; a word of a closed list with the flag that explains it."""
    path = tmp_path / "odd.csv"
    row = "2026-10-{day:02},C,G,lamp,{match},grow lamp {term},100,{clicks},1.20,1,20.00"
    lines = ["date,campaign,ad group,target,match type,search term,impressions,clicks,spend,orders,sales"]
    lines += [row.format(day=1 + n % 12, match="broad", clicks=3, term=n) for n in range(60)]
    lines += [
        row.format(day=13, match="roughly", clicks=3, term=1),
        row.format(day=14, match="broad", clicks="many", term=1),
    ]
    path.write_text("\n".join(lines))
    done = reef("import", path, "--account", "fern-de", "--yes")
    assert "2 rejected" in done.output
    assert "1 × match_type “roughly”" in done.output
    assert '--value "match_type:roughly=…"' in done.output
    assert "1 × clicks “many”" in done.output
    read = reef("import", path, "--account", "fern-de", "--yes", "--again", "--value", "match_type:roughly=broad")
    assert "1 rejected" in read.output


def test_people_and_accounts_are_added(reef):
    done = reef(
        "account",
        "add",
        "pell-gb",
        "--brand",
        "Pellwick",
        "--marketplace",
        "Tidemarkt",
        "--country",
        "GB",
        "--currency",
        "GBP",
        "--timezone",
        "Europe/London",
        "--target-acos",
        "0.25",
    )
    assert "pell-gb: Pellwick, GB, GBP" in done.output
    done = reef(
        "user", "add", "ann@example.com", "--role", "viewer", "--brand", "Pellwick", "--password", "long enough"
    )
    assert "may sign in as viewer" in done.output
    assert reef("user", "add", "ann@example.com", "--password", "short").exit_code == 1


def test_the_plan_is_exported(reef, tmp_path):
    path = tmp_path / "plan.csv"
    assert "0 changes" in reef("export", "--account", "fern-de", "-o", path).output
    assert path.read_text(encoding="utf-8-sig").startswith("row,action,entity,campaign")


def commands(group, path=()):
    for name, command in group.commands.items():
        yield (*path, name), command
        if hasattr(command, "commands"):
            yield from commands(command, (*path, name))


def test_every_command_and_option_explains_itself():
    for path, command in commands(cli):
        assert command.help, path
        for parameter in command.params:
            if parameter.param_type_name == "option":
                assert parameter.help, (path, parameter.name)


def test_every_setting_is_read_and_documented():
    """One list: what is in it is in docs/settings.md, with its default."""
    from pathlib import Path

    docs = (Path(__file__).parents[2] / "docs/settings.md").read_text()
    for setting in SETTINGS:
        assert f"`{setting.name}`" in docs
        assert setting.help in docs
    assert load({}).port == 8800
    with pytest.raises(BadInput, match="REEF_PORT"):
        load({"REEF_PORT": "high"})


def test_a_busy_port_gives_the_next_free_one():
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert wiring.free_port("127.0.0.1", port) > port


def test_what_the_pages_show_comes_as_data(reef, report, tmp_path):
    assert reef("findings", "--account", "fern-de").exit_code == 1, "nothing is loaded yet"
    reef("import", report, "--account", "fern-de", "--yes")
    window = ("--account", "fern-de", "--window", "2026-10-01..2026-10-30")
    (beat,) = json.loads(reef("pulse", "--window", "2026-10-01..2026-10-30", "--format", "json").stdout)
    assert (beat["account"], beat["spend"], beat["report"]) == ("fern-de", 720.0, "search_term_daily")
    days = json.loads(reef("coverage", "--account", "fern-de", "--format", "json").stdout)
    assert {each["state"] for each in days} >= {"missing", "maturing"}
    found = json.loads(reef("findings", *window, "--format", "json").stdout)
    assert "term 7" in [row["term"] for row in found if row["finding"] == "wasted-terms"]
    assert "term 7" in [row["what"] for row in found if row["finding"] == "wasted-terms"]
    rows = list(csv.DictReader(io.StringIO(reef("table", *window, "--view", "terms", "--where", "orders:eq:0").stdout)))
    assert [row["term"] for row in rows] == ["term 7"]
    for name in ("t.xlsx", "t.parquet", "t.csv"):
        assert reef("table", *window, "-o", tmp_path / name).exit_code == 0
        assert (tmp_path / name).stat().st_size > 500
    marked = reef("table", *window, "--where", "planned:is:no", "--where", "brand:is:own")
    assert marked.exit_code == 0
    assert len(marked.stdout.splitlines()) >= 1
    assert reef("table", *window, "-o", tmp_path / "t.pdf").exit_code == 1
    assert json.loads(reef("plan", "--account", "fern-de", "--format", "json").stdout) == []


def test_figures_come_without_what_a_machine_adds_to_their_last_digit(reef, tmp_path):
    """3.60 less a month is 3.6, in every form."""
    path = tmp_path / "two.csv"
    days = [("2026-10-01", "1.13"), ("2026-10-02", "1.01")]
    path.write_text(HEADER + "".join(f"{day},C,G,t,exact,a term,100,1,{spend},0,0\n" for day, spend in days))
    assert reef("import", path, "--account", "fern-de", "--yes").exit_code == 0
    asked = ("movement", "--account", "fern-de", "--by", "campaign", "--window", "2026-10-02..2026-10-02")
    told = json.loads(reef(*asked, "--against", "2026-10-01..2026-10-01", "--format", "json").output)
    assert [each["spend_change"] for each in told] == [-3.6]
    for form in ("csv", "table"):
        shown = reef(*asked, "--against", "2026-10-01..2026-10-01", "--format", form).output
        assert "-3.6" in shown
        assert "-3.60000" not in shown


def test_an_account_at_size_is_many_worlds_side_by_side(database, store, tmp_path):
    """Two small worlds, each of them twice, over six days in two files: all of them, under names of their own."""
    conf = config.load({"REEF_VAR": str(tmp_path), "REEF_DATABASE_URL": database.app_url})
    said = []
    size = large.Size(2, 6, 2, copies=2)
    account = large.load(conf, store, seed=3, last_day=date(2026, 10, 20), step=said.append, size=size)
    held = {each.kind: each for each in loads.held_reports(store, account.id)}
    assert {"target_daily", "search_term_daily", "product_ad_daily", "product_sales_daily"} <= set(held)
    assert held["target_daily"].days == 6
    names = target_frames.target_rows(Facts(store), account.id, Window(date(2026, 10, 15), date(2026, 10, 20)))[
        "campaign"
    ]
    assert {name[:3] for name in names} == {"01 ", "02 ", "03 ", "04 "}
    assert len(said) <= large.steps(size)
    assert list(verify(store, account.id)) == []


def test_the_same_file_again_is_named_and_left(reef, report):
    reef("import", report, "--account", "fern-de", "--yes")
    again = reef("import", report, "--account", "fern-de", "--yes")
    assert again.exit_code == 0
    assert "already loaded" in again.output
    assert "360 replaced" in reef("import", report, "--account", "fern-de", "--yes", "--again").output


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({}, "already"),
        ({"key": "Acme DE"}, "not a valid key"),
        ({"--locale": "xx_YY"}, "not a locale"),
        ({"--timezone": "Europe/Nowhere"}, "not a time zone"),
        ({"--currency": "EURO"}, "not a currency"),
        ({"--country": "Germany"}, "not a country code"),
    ],
)
def test_an_account_that_cannot_be_is_refused_with_a_remedy(reef, changes, words):
    given = {
        "--brand": "Acme",
        "--marketplace": "M",
        "--country": "DE",
        "--currency": "EUR",
        "--timezone": "Europe/Berlin",
        "--target-acos": "0.3",
        "--locale": "en",
    }
    key = changes.pop("key", "fern-de")
    done = reef("account", "add", key, *(part for pair in (given | changes).items() for part in pair))
    assert done.exit_code == 1
    assert words in done.output.replace("\n", " ")


def test_the_format_of_a_file_is_said_by_its_word(reef, report):
    for label in ("all", "product", "brand", "display"):
        done = reef("import", report, "--account", "fern-de", "--scope", label, "--yes", "--again")
        assert done.exit_code == 0, done.output


def test_every_choice_of_the_command_line_is_a_plain_word():
    """Of members of an enum the library would take the names, which no document tells."""
    context = click.Context(cli)
    choices = [
        (name, each)
        for name in cli.list_commands(context)
        for parameter in cli.get_command(context, name).params
        for each in getattr(parameter.type, "choices", ())
    ]
    assert len(choices) > 20
    assert [each for each in choices if type(each[1]) is not str] == []


def test_a_filter_that_nobody_knows_is_told_what_there_is(reef, report):
    reef("import", report, "--account", "fern-de", "--yes")
    window = ("--account", "fern-de", "--view", "terms")
    assert "columns are" in reef("table", *window, "--where", "nothing:is:x").output
    assert "gt, ge" in reef("table", *window, "--where", "clicks:has:x").output


def test_a_file_of_sums_without_dates_takes_them_from_the_command_line(reef, report, tmp_path):
    path = tmp_path / "bare.csv"
    lines = report.read_text().splitlines()[:13]
    path.write_text("\n".join(line.partition(",")[2] for line in lines))
    refused = reef("import", path, "--account", "fern-de")
    assert refused.exit_code == 1
    assert "--from" in refused.output
    done = reef("import", path, "--account", "fern-de", "--from", "2026-10-01", "--to", "2026-10-30")
    assert "12 rows, one sum for 2026-10-01 to 2026-10-30" in done.output
    rows = reef(
        "rows", "--account", "fern-de", "--kind", "search_term_daily", "--from", "2026-10-01", "--to", "2026-10-30"
    )
    assert rows.stdout.startswith("from,to,campaign,ad_group,target,match_type,search_term")
    assert len(rows.stdout.splitlines()) == 13
    audit = json.loads(reef("audit", "--account", "fern-de", "--format", "json").stdout)
    assert (audit["from"], audit["to"]) == ("2026-10-01", "2026-10-30"), "the days that pages show"


def test_words_that_are_not_known_are_asked_and_answered(reef, report, tmp_path):
    path = tmp_path / "words.csv"
    path.write_text(report.read_text().replace("broad", "weit und breit"))
    asked = reef("import", path, "--account", "fern-de", "--yes")
    assert asked.exit_code == 1
    assert "--value match_type:weit und breit=" in asked.output.replace("\n", " ")
    done = reef("import", path, "--account", "fern-de", "--yes", "--value", "match_type:weit und breit=broad")
    assert "360 rows" in done.output


def test_the_register_says_of_every_command_what_it_says_itself():
    """Help is told without importing a command; both must say the same."""
    for name, (_, _, told) in COMMANDS.items():
        command = cli.get_command(None, name)
        assert command.name == name
        assert command.help.strip().split("\n")[0] == told


def test_help_imports_no_command():
    code = "import sys; from nimbus_reef.cli.main import cli; cli(['--help'], standalone_mode=False); "
    code += "sys.exit(any(name in sys.modules for name in ('polars', 'sqlalchemy', 'flask')))"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, check=False).returncode == 0


def test_what_a_file_leaves_open_is_refused_with_the_flag_that_answers_it(reef, tmp_path):
    path = tmp_path / "windows.csv"
    head = "Day,Campaign name,Impr.,Clicks,Spend (USD),7 day orders,14 day orders,Sales\n"
    rows = [
        f"2026-08-{n:02d},Old lamps,{900 + n},{20 + n},{10 + n}.50,{n % 3},{n % 3 + n % 2},{n % 3 * 20}.50\n"
        for n in range(1, 29)
    ]
    path.write_text(head + "".join(rows))
    refused = reef("import", path, "--account", "fern-de")
    assert refused.exit_code == 1
    assert "The column for orders can be “" in refused.output
    assert "--column orders='" in refused.output
    refused = reef("import", path, "--account", "fern-de", "--column", "orders=7 day orders")
    assert refused.exit_code == 1
    assert "The file's money is in USD; the account counts in EUR." in refused.output
    done = reef("import", path, "--account", "fern-de", "--column", "orders=7 day orders", "--rate", "0.5")
    assert done.exit_code == 0, done.output
    assert "Money was converted from USD: one USD is 0.5 EUR." in done.output


def test_proposals_are_shown_accepted_and_taken_back(reef, report, tmp_path):
    """The same rules as on the pages: what is proposed goes into the plan with its reasons, and out again."""
    reef("import", report, "--account", "fern-de", "--yes")
    password = ("--password", "long secret words")
    assert reef("user", "add", "ana@x.example", "--role", "owner", *password).exit_code == 0
    arguments = ("propose", "--account", "fern-de", "--view", "terms")
    shown = json.loads(reef(*arguments, "--format", "json").stdout)
    (wasted,) = [each for each in shown if each["on"] == "term 7"]
    assert wasted["proposal"] == "negative exact"
    assert wasted["spend"] < 0
    assert wasted["why"].startswith("108 clicks brought no order.")
    nobody = reef(*arguments, "--row", wasted["row"], "--accept", "--by", "no@x.example")
    assert nobody.exit_code == 1
    assert "Nobody has the address" in nobody.stderr
    done = reef(*arguments, "--row", wasted["row"], "--accept", "--by", "ana@x.example")
    assert done.stdout == "1 change added to the plan.\n", done.stderr
    (planned,) = json.loads(reef("plan", "--account", "fern-de", "--format", "json").stdout)
    assert (planned["entity"], planned["target"]) == ("negative", "term 7")
    assert reef("take-back", "--account", "fern-de", "--by", "ana@x.example").stdout == "1 change as before.\n"
    assert json.loads(reef("plan", "--account", "fern-de", "--format", "json").stdout or "[]") == []
