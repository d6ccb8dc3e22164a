"""A log has an identity of its own: its files lie in a folder of that name, and what is of another log is told apart."""

import uuid

import sqlalchemy as sa
from alembic import op

revision = "005"
down_revision = "004"


def upgrade() -> None:
    about = op.create_table(
        "about",
        sa.Column("name", sa.String(40), primary_key=True),
        sa.Column("value", sa.String(200), nullable=False),
    )
    op.bulk_insert(about, [{"name": "identity", "value": uuid.uuid4().hex}])


def downgrade() -> None:
    op.drop_table("about")
