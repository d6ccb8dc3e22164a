"""Jobs and their trail entries."""

import sqlalchemy as sa
from alembic import op

revision = "001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("machine", sa.String(200), nullable=False),
        sa.Column("owner", sa.String(200), nullable=False),
        sa.Column("cylinders", sa.Integer(), nullable=True),
    )
    op.create_table(
        "entry",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("job.id"), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("data", sa.JSON(), nullable=False),
        sa.Column("withdrawn", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_entry_job_id", "entry", ["job_id"])


def downgrade() -> None:
    op.drop_table("entry")
    op.drop_table("job")
