"""Runs that are kept."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "run",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("study", sa.String(40), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("note", sa.String(4000), nullable=False),
        sa.Column("revision", sa.Integer, nullable=False),
        sa.Column("condition", sa.String(120), nullable=False),
        sa.Column("facts", sa.LargeBinary, nullable=False),
        sa.Column("tables", sa.LargeBinary, nullable=False),
    )
    op.create_index("run_by_project", "run", ["project_id", "at"])


def downgrade() -> None:
    op.drop_table("run")
