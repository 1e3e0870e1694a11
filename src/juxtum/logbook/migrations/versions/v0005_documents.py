"""The shop's own documents of instruments and equipment."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

TABLES = ("instruments", "artefacts")


def upgrade() -> None:
    """Add a column for the document; empty for what ships."""
    for table in TABLES:
        op.add_column(table, sa.Column("document", sa.Text, nullable=False, server_default=""))


def downgrade() -> None:
    """Take it away again."""
    for table in TABLES:
        op.drop_column(table, "document")
