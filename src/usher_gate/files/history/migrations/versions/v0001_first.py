"""The first version: checks, intervals, and what else is counted."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Makes the tables."""
    op.create_table(
        "checks",
        sa.Column("number", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("organisation", sa.Text, nullable=False),
        sa.Column("time", sa.Text, nullable=False),
        sa.Column("taken_at", sa.BigInteger, nullable=False),
        sa.Column("baseline_name", sa.Text, nullable=False),
        sa.Column("baseline_version", sa.Text, nullable=False),
        *(
            sa.Column(name, sa.String(64), nullable=False)
            for name in ("snapshot", "baseline", "exceptions", "result", "findings", "before", "kept", "link")
        ),
    )
    op.create_table(
        "spells",
        sa.Column("rule", sa.Text, primary_key=True),
        sa.Column("service", sa.Text, primary_key=True),
        sa.Column("type", sa.Text, primary_key=True),
        sa.Column("id", sa.Text, primary_key=True),
        sa.Column("first", sa.Integer, primary_key=True),
        sa.Column("verdict", sa.Text, nullable=False),
        sa.Column("last", sa.Integer),
        sa.Column("left", sa.Boolean, nullable=False),
        sqlite_with_rowid=False,  # the key is most of a row: once, not twice
    )
    op.create_table(
        "counts",
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("kind", sa.Text, primary_key=True),
        sa.Column("name", sa.Text, primary_key=True),
        sa.Column("many", sa.BigInteger),
        sqlite_with_rowid=False,
    )
