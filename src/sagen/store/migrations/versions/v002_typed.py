"""Entries carry the version that they are written in; a job carries what the list of jobs shows of it (filled by the newest migration)."""

import sqlalchemy as sa
from alembic import op

revision = "002"
down_revision = "001"


def upgrade() -> None:
    op.add_column("entry", sa.Column("version", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("job", sa.Column("withdrawn", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("job", sa.Column("about", sa.String(400), nullable=False, server_default=""))
    op.add_column("job", sa.Column("entries", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("job", sa.Column("stage", sa.String(20), nullable=False, server_default="open"))
