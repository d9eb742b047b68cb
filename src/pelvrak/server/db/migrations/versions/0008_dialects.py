"""Dialects of the shop's own."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "dialect_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("dialect", postgresql.JSONB, nullable=False),
    )
