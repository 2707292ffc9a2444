"""The demo as a start with it has it: both brands, and somebody to sign in as."""

from __future__ import annotations

import secrets
from datetime import date
from pathlib import Path

from nimbus_reef.config import Config
from nimbus_reef.jobs import demo_brands
from nimbus_reef.jobs.demo_brands import Step
from nimbus_reef.store.people import people
from nimbus_reef.store.people.people import Role
from nimbus_reef.store.record import server
from nimbus_reef.store.record.engine import Store

DEMO_EMAIL = "demo@nimbus-reef.example"


def password_file(config: Config) -> Path:
    """Where the demo sign-in's password is kept; there only where the demo was loaded."""
    return config.var / "demo-password"


def password(config: Config) -> str:
    """The demo sign-in's password, made at first start."""
    file = password_file(config)
    if not file.exists():
        config.var.mkdir(parents=True, exist_ok=True)
        server.write_whole(file, secrets.token_urlsafe(9), replace=False)
    return file.read_text()


def loaded(store: Store) -> bool:
    """True when the demo accounts are there, and who signs in to them."""
    return demo_brands.loaded(store) and people.by_address(store, DEMO_EMAIL) is not None


def load(config: Config, store: Store, *, seed: int, last_day: date, step: Step) -> None:
    """Both brands up to `last_day`, and the owner who looks at them; safe to repeat."""
    demo_brands.load(config, store, seed=seed, last_day=last_day, step=step)
    if people.by_address(store, DEMO_EMAIL) is None:
        people.add(store, email=DEMO_EMAIL, name="Demo", password=password(config), role=Role.OWNER)
