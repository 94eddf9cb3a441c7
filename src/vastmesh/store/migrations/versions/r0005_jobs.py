"""Jobs: what was asked of the workers, how it went, and what came of it."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.String(32), primary_key=True),
        sa.Column("project_id", sa.String(32), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("at", sa.String(32), nullable=False),
        sa.Column("state", sa.String(16), nullable=False),
        sa.Column("about", sa.LargeBinary, nullable=False),
        sa.Column("facts", sa.LargeBinary),
        sa.Column("tables", sa.LargeBinary),
    )
    op.create_index("job_by_project", "job", ["project_id", "at"])


def downgrade() -> None:
    op.drop_table("job")
