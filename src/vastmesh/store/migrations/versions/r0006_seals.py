"""Seals of snapshots: what the same code has validated before is not validated again."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("snapshot", sa.Column("seal", sa.String(64)))


def downgrade() -> None:
    op.drop_column("snapshot", "seal")
