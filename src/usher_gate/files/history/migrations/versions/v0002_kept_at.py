"""The second version: when each check was kept."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Adds the column; what was kept before does not say."""
    op.add_column("checks", sa.Column("kept_at", sa.Text))
