"""How long captures took, against what was estimated for them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table of captures."""
    op.create_table(
        "captures",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("instrument_id", sa.Integer, sa.ForeignKey("instruments.id"), nullable=False),
        sa.Column("mode", sa.String(120), nullable=False),
        sa.Column("job", sa.String(64), nullable=False),
        sa.Column("part", sa.String(200), nullable=False),
        sa.Column("began", sa.String(40), nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("planned", sa.Float, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("promised", sa.Float, nullable=False),
        sa.Column("coverage", sa.Float, nullable=False),
        sa.UniqueConstraint("job", "began"),
    )


def downgrade() -> None:
    """Take it away again."""
    op.drop_table("captures")
