"""The shelf: machine cards and known-good captures."""

import sqlalchemy as sa
from alembic import op

revision = "003"
down_revision = "002"


def upgrade() -> None:
    op.create_table(
        "kept",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("data", sa.JSON(), nullable=False),
        sa.Column("withdrawn", sa.Boolean(), nullable=False, server_default=sa.false()),
    )
    op.create_index("ix_kept_kind", "kept", ["kind"])


def downgrade() -> None:
    op.drop_table("kept")
