"""Runs the migrations on the database that the program names."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

from yielding_tether.store import tables  # noqa: F401  (fills the metadata)

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata)
    with context.begin_transaction():
        context.run_migrations()
