"""By which chains holes are made in the shop."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "chains_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("rules", postgresql.JSONB, nullable=False),
    )
