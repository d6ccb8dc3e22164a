"""A log that several bays share: changes are counted, entries say who wrote them and carry a checksum; captures by content.

What the list of jobs shows is worked out anew here, by today's code: only the newest migration may do so.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.orm import Session

from sagen.store.reading import refresh_all, write_missing_checksums

revision = "004"
down_revision = "003"


def added() -> list[sa.Column]:
    return [
        sa.Column("revision", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("author", sa.String(80), nullable=False, server_default=""),
        sa.Column("bay", sa.String(80), nullable=False, server_default=""),
        sa.Column("changer", sa.String(200), nullable=False, server_default=""),
        sa.Column("mark", sa.String(32), nullable=True),
        sa.Column("sum", sa.String(64), nullable=False, server_default=""),
    ]


def upgrade() -> None:
    bind = op.get_bind()
    for item in added():
        op.add_column("entry", item)
    op.create_index("ix_entry_mark", "entry", ["mark"], unique=True)
    if bind.dialect.name == "postgresql":
        # A column of type JSON keeps no NaN and would not give back the letters that a checksum is of.
        for table in ("entry", "kept"):
            op.alter_column(table, "data", type_=sa.Text(), postgresql_using="data::text")
    op.create_table(
        "content",
        sa.Column("sha", sa.String(64), primary_key=True),
        sa.Column("object", sa.BigInteger(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
    )
    op.create_table(
        "piece",
        sa.Column("token", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(80), primary_key=True),
        sa.Column("sha", sa.String(64), sa.ForeignKey("content.sha"), nullable=False),
    )
    op.create_index("ix_piece_sha", "piece", ["sha"])
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.Integer(), nullable=True),
        sa.Column("whose", sa.String(12), nullable=False),
    )
    with Session(bind) as session:
        write_missing_checksums(session)
        refresh_all(session)
        session.flush()


def downgrade() -> None:
    op.drop_table("change")
    op.drop_table("piece")
    op.drop_table("content")
    op.drop_index("ix_entry_mark", "entry")
    with op.batch_alter_table("entry") as batch:
        for item in added():
            batch.drop_column(item.name)
