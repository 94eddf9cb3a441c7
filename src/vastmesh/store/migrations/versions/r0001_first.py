"""Projects, journal, snapshots."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "project",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("created_at", sa.String(32), nullable=False),
        sa.Column("modified_at", sa.String(32), nullable=False),
        sa.Column("removed_at", sa.String(32)),
        sa.Column("revision", sa.Integer, nullable=False),
    )
    op.create_table(
        "journal",
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("revision", sa.Integer, primary_key=True),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("kind", sa.String(8), nullable=False),
        sa.Column("target", sa.Integer),
        sa.Column("changes", sa.LargeBinary, nullable=False),
        sa.Column("inverse", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "snapshot",
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("revision", sa.Integer, primary_key=True),
        sa.Column("items", sa.LargeBinary, nullable=False),
    )
    op.create_index("snapshot_by_project", "snapshot", ["project_id", "revision"])


def downgrade() -> None:
    for table in ("snapshot", "journal", "project"):
        op.drop_table(table)
