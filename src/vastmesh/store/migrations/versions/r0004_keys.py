"""The key under which an edit was sent, so that it is done once however often it is sent."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("journal", sa.Column("key", sa.String(64)))
    op.create_index("journal_by_key", "journal", ["project_id", "key"], unique=True)


def downgrade() -> None:
    op.drop_index("journal_by_key", "journal")
    op.drop_column("journal", "key")
