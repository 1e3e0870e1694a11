"""Instruments, artefacts, calibrations and checks."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the first tables."""
    op.create_table(
        "instruments",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("model", sa.String(60), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("serial", sa.String(100), nullable=False, server_default=""),
        sa.Column("certificate", sa.String(120), nullable=False, server_default=""),
        sa.Column("due", sa.Date),
        sa.UniqueConstraint("model", "serial"),
    )
    op.create_table(
        "artefacts",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(120), nullable=False, unique=True),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("length", sa.Float, nullable=False),
        sa.Column("diameter", sa.Float, nullable=False, server_default="0"),
        sa.Column("uncertainty", sa.Float, nullable=False),
        sa.Column("certificate", sa.String(120), nullable=False, server_default=""),
        sa.Column("due", sa.Date),
    )
    op.create_table(
        "calibrations",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("instrument_id", sa.Integer, sa.ForeignKey("instruments.id"), nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("temperature", sa.Float, nullable=False),
        sa.Column("artefact", sa.String(120), nullable=False),
        sa.Column("operator", sa.String(200), nullable=False),
        sa.Column("value", sa.Float, nullable=False),
        sa.Column("limit", sa.Float, nullable=False),
        sa.Column("passed", sa.Boolean, nullable=False),
    )
    op.create_table(
        "checks",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("instrument_id", sa.Integer, sa.ForeignKey("instruments.id"), nullable=False),
        sa.Column("artefact", sa.String(120), nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("temperature", sa.Float, nullable=False),
        sa.Column("operator", sa.String(200), nullable=False),
        sa.Column("size_error", sa.Float, nullable=False),
        sa.Column("length_error", sa.Float, nullable=False),
        sa.Column("size_limit", sa.Float, nullable=False),
        sa.Column("length_limit", sa.Float, nullable=False),
        sa.Column("passed", sa.Boolean, nullable=False),
    )


def downgrade() -> None:
    """Take them away again."""
    for name in ("checks", "calibrations", "artefacts", "instruments"):
        op.drop_table(name)
