"""Files with several solids and of other kinds than parts; the shelf."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("part_upload", sa.Column("choices", postgresql.JSONB))
    op.add_column("part_upload", sa.Column("origin", postgresql.JSONB))
    op.add_column("part_upload", sa.Column("kind", sa.String(12), nullable=False, server_default="part"))
    op.create_table(
        "shelf_row",
        sa.Column("place", sa.Integer, primary_key=True),
        sa.Column("bought", postgresql.JSONB, nullable=False),
    )
