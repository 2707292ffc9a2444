"""`python -m nimbus_reef` is the `reef` command."""

from nimbus_reef.cli.main import cli

cli(prog_name="reef")
