"""Brings a database up to the newest schema: ours through Alembic, the job queue's through procrastinate."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from procrastinate import App, SyncPsycopgConnector
from sqlalchemy import text

from foldbarn.settings import settings
from foldbarn.store.database import engine

ONE_AT_A_TIME = 0xF01D  # advisory lock, so that two starting processes do not both migrate


def alembic_config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def migrate() -> None:
    """Runs what is missing; does nothing on a database that is up to date."""
    with engine().begin() as connection:
        connection.execute(text("select pg_advisory_xact_lock(:key)"), {"key": ONE_AT_A_TIME})
        config = alembic_config()
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        queue_is_there = connection.scalar(text("select to_regclass('procrastinate_jobs') is not null"))
        if not queue_is_there:
            with App(connector=SyncPsycopgConnector(conninfo=settings().plain_database_url)).open() as app:
                app.schema_manager.apply_schema()
