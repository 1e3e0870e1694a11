"""What a shop owns: serials, equipment, and every certificate that was ever entered."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the columns of the register and the table of certificates."""
    op.add_column("instruments", sa.Column("owned", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("artefacts", sa.Column("serial", sa.String(100), nullable=False, server_default=""))
    op.add_column("artefacts", sa.Column("model", sa.String(60), nullable=False, server_default=""))
    op.create_table(
        "certificates",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("instrument_id", sa.Integer, sa.ForeignKey("instruments.id")),
        sa.Column("artefact_id", sa.Integer, sa.ForeignKey("artefacts.id")),
        sa.Column("number", sa.String(120), nullable=False),
        sa.Column("due", sa.Date),
        sa.Column("entered", sa.DateTime, nullable=False),
        sa.Column("entered_by", sa.String(200), nullable=False, server_default=""),
        sa.Column("file_name", sa.String(200), nullable=False, server_default=""),
        sa.Column("file_hash", sa.String(64), nullable=False, server_default=""),
        sa.Column("file", sa.LargeBinary),
    )
    # What a person certified is the shop's, and its certificate the first of its history.
    op.execute(sa.text("update instruments set owned = true where certificate <> ''"))
    for table, column in (("instruments", "instrument_id"), ("artefacts", "artefact_id")):
        rows = f"select id, certificate, due, current_timestamp, '', '', '' from {table} where certificate <> ''"  # noqa: S608
        into = f"insert into certificates ({column}, number, due, entered, entered_by, file_name, file_hash) {rows}"
        op.execute(sa.text(into))


def downgrade() -> None:
    """Take them away again."""
    op.drop_table("certificates")
    op.drop_column("artefacts", "model")
    op.drop_column("artefacts", "serial")
    op.drop_column("instruments", "owned")
