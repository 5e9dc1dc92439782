"""Alembic's entry: migrates over the connection that store.migrate hands in."""

from alembic import context

from foldbarn.store.tables import Base


def is_ours(name: str | None, kind: str, _: object) -> bool:
    """The job queue's tables, and partitions of samples, look after themselves."""
    others = ("procrastinate_", "sample_from_", "sample_minute_from_", "sample_hour_from_")
    return not (kind == "table" and name is not None and name.startswith(others))


context.configure(
    include_name=is_ours, connection=context.config.attributes["connection"], target_metadata=Base.metadata
)
with context.begin_transaction():
    context.run_migrations()
