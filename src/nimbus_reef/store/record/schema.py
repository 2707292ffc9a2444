"""The shape of the database: migrating it, and telling whether it is current."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config as AlembicConfig
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine

_HERE = Path(__file__).parent / "migrations"


def _alembic() -> AlembicConfig:
    config = AlembicConfig()
    config.set_main_option("script_location", str(_HERE))
    config.set_main_option("path_separator", "os")
    return config


def migrate(engine: Engine) -> str:
    """
    Brings the tables to the newest revision and returns its name.

    MariaDB commits every change of a table by itself: a migration that is cut off leaves
    some of them made. So each step of a revision says `if_not_exists`, and running the
    revision again finishes it.
    """
    config = _alembic()
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        return MigrationContext.configure(connection).get_current_revision() or ""


def revision(engine: Engine, message: str) -> None:
    """Writes a new revision from the difference between models and database."""
    config = _alembic()
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.revision(config, message=message, autogenerate=True)


def is_current(engine: Engine) -> bool:
    """True when no migration is waiting."""
    head = ScriptDirectory.from_config(_alembic()).get_current_head()
    with engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() == head


def current(engine: Engine) -> str:
    """The revision that the tables stand at; empty where there are none yet."""
    with engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() or ""


def knows(name: str) -> bool:
    """Whether this version of the application knows a revision."""
    return name in {each.revision for each in ScriptDirectory.from_config(_alembic()).walk_revisions()}
