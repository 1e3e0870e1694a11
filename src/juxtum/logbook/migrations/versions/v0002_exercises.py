"""Exercises of learners."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table of exercises."""
    op.create_table(
        "exercises",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("learner", sa.String(200), nullable=False),
        sa.Column("exercise", sa.String(60), nullable=False),
        sa.Column("part", sa.String(200), nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("score", sa.Float, nullable=False),
        sa.Column("words", sa.Text, nullable=False),
    )


def downgrade() -> None:
    """Take it away again."""
    op.drop_table("exercises")
