"""The shop's libraries of tools and of templates."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "tool_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("tool", postgresql.JSONB, nullable=False),
    )
    op.create_table(
        "template_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("template", postgresql.JSONB, nullable=False),
    )
